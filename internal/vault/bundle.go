package vault

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"reshard/internal/core/fault"
)

// Cut reads to the end and hands out the chunks that a vault would make of it; the
// slice is only valid during the call. buf is memory from CutBuffer.
func Cut(from io.Reader, buf []byte, see func(c Chunk, data []byte) error) error {
	return split(from, buf, func(data []byte) error { return see(ChunkOf(data), data) })
}

// CutBuffer gives memory for Cut.
func CutBuffer() []byte { return make([]byte, splitBuffer) }

// ChunkOf names a chunk.
func ChunkOf(data []byte) Chunk {
	return Chunk{Hash: Name(blake3.Sum256(data)).String(), Size: int64(len(data))}
}

// Bundle is a pack of chunks in memory, to be sent to a vault elsewhere.
type Bundle struct {
	enc     *zstd.Encoder
	buf     bytes.Buffer
	headers []byte
	count   uint32
	content int64
}

// NewBundle gives an empty bundle.
func NewBundle() (*Bundle, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
		zstd.WithWindowSize(1<<20), zstd.WithEncoderCRC(false))
	b := &Bundle{enc: enc}
	b.Reset()
	return b, fault.Wrap(fault.Internal, "pack", "chunks", err)
}

// Reset empties it.
func (b *Bundle) Reset() {
	b.buf.Reset()
	b.buf.WriteString(packMagic)
	b.headers, b.count, b.content = b.headers[:0], 0, 0
}

// Add puts a chunk in.
func (b *Bundle) Add(c Chunk, data []byte) error {
	name, err := ParseName(c.Hash)
	if err != nil {
		return err
	}
	coding, coded := byte(zstdCoding), b.enc.EncodeAll(data, nil)
	if len(coded) >= len(data) {
		coding, coded = rawCoding, data
	}
	h := Entry{
		Kind:     ChunkKind,
		Name:     name,
		Position: Position{Stored: int64(len(coded)), Coding: coding, Size: int64(len(data))},
	}.header()
	b.buf.Write(h)
	b.buf.Write(coded)
	b.headers = append(b.headers, h...)
	b.count++
	b.content += int64(len(data))
	return nil
}

// Len is how many bytes it has, and how many its chunks have unpacked.
func (b *Bundle) Len() (packed, content int64) { return int64(b.buf.Len()), b.content }

// Bytes ends the bundle and gives it as a pack; nothing may be added before a Reset.
func (b *Bundle) Bytes() []byte {
	sum := blake3.Sum256(b.headers)
	b.buf.Write(b.headers)
	b.buf.Write(sum[:])
	b.buf.Write(binary.LittleEndian.AppendUint32(nil, b.count))
	b.buf.WriteString(packMagic)
	return b.buf.Bytes()
}

// Take stores the chunks of a bundle that came from elsewhere. Each is verified; when
// one of them is wrong none is known afterwards.
func (v *Vault) Take(ctx context.Context, from io.ReaderAt, size int64) (chunks int, err error) {
	bad := func(format string, args ...any) error {
		return fault.New(fault.BadArchive, "take in", "chunks", format, args...)
	}
	defer v.beginStoring()()
	p := v.newPacker()
	defer p.drop()
	magic := make([]byte, len(packMagic))
	if _, err := from.ReadAt(magic, 0); err != nil || string(magic) != packMagic ||
		size < int64(len(packMagic)+endSize) {
		return 0, bad("it is no pack")
	}
	end := make([]byte, endSize)
	if _, err := from.ReadAt(end, size-int64(endSize)); err != nil || string(end[36:]) != packMagic {
		return 0, bad("its end is missing")
	}
	count := int64(binary.LittleEndian.Uint32(end[32:]))
	directory := size - int64(endSize) - count*headerSize
	at := int64(len(packMagic))
	if directory < at {
		return 0, bad("its end lies")
	}
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(2)
	for range count {
		header := make([]byte, headerSize)
		if _, err := from.ReadAt(header, at); err != nil {
			return 0, errors.Join(bad("it ends within an entry"), group.Wait())
		}
		e, err := parseHeader(header)
		if err != nil || e.Kind != ChunkKind || e.Stored > LongestChunk || e.Size > LongestChunk ||
			at+headerSize+e.Stored > directory {
			return 0, errors.Join(bad("an entry is no chunk"), group.Wait())
		}
		start := at + headerSize
		at = start + e.Stored
		group.Go(func() error {
			return fault.Safely(func() error { return v.takeChunk(gctx, p, from, start, e) })
		})
	}
	if err := group.Wait(); err != nil {
		return 0, err
	}
	if at != directory {
		return 0, bad("its end lies")
	}
	return int(count), v.fail("store in", v.publish(ctx, p))
}

func (v *Vault) takeChunk(ctx context.Context, p *packer, from io.ReaderAt, start int64, e Entry) error {
	if err := context.Cause(ctx); err != nil {
		return fault.Wrap(fault.Interrupted, "take in", "chunks", err)
	}
	coded, plain := v.buf.Get().(*[]byte), v.buf.Get().(*[]byte)
	defer v.buf.Put(coded)
	defer v.buf.Put(plain)
	if _, err := from.ReadAt((*coded)[:e.Stored], start); err != nil {
		return fault.Wrap(fault.BadArchive, "take in", "chunks", err)
	}
	if _, err := v.decode(e, (*coded)[:e.Stored], *plain); err != nil {
		return &fault.Error{
			Code: fault.BadArchive,
			Op:   "take in",
			Path: "chunks",
			What: "a chunk is not what its name says",
			Err:  err,
		}
	}
	if !p.claim(ChunkKind, e.Name) {
		return nil
	}
	if v.known.maybe(e.Name) {
		if places, err := v.index.Find(ctx, ChunkKind, []Name{e.Name}); err != nil || len(places) > 0 {
			return v.fail("store in", err)
		}
	}
	return v.fail("store in", p.add(ChunkKind, e.Name, e.Coding, e.Size, (*coded)[:e.Stored]))
}
