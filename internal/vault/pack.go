package vault

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/google/uuid"
	"github.com/zeebo/blake3"

	"reshard/internal/blobs"
	"reshard/internal/core/fault"
)

// A pack is a blob of many entries, so that a world of thousands of small files is a
// few large blobs. docs/vault.md describes it:
//
//	pack      = magic entry* directory end
//	entry     = header coded-bytes
//	directory = the headers of all entries, in their order
//	end       = BLAKE3-256 of the directory (32 bytes), number of entries (4), magic
const (
	packMagic  = "reshard pack/1\n\x00"
	headerSize = 48
	endSize    = 32 + 4 + len(packMagic)
	// packSize is where a pack is ended, in bytes: large enough for any store, small
	// enough to be rewritten.
	packSize = 32 << 20
)

// Kind says what an entry of a pack is.
type Kind byte

// The kinds of entry.
const (
	ChunkKind Kind = 1 // a piece of a file; its name is the BLAKE3-256 of its content
	CopyKind  Kind = 2 // a manifest, as JSON; its name is the copy's id
)

// Name names an entry by its content.
type Name [32]byte

func (n Name) String() string { return hex.EncodeToString(n[:]) }

// ParseName reads a name of 64 hexadecimal digits.
func ParseName(s string) (n Name, err error) {
	raw, err := hex.DecodeString(s)
	if err != nil || len(raw) != len(n) {
		return n, fault.New(fault.Invalid, "read name", s, "it is not 64 hexadecimal digits")
	}
	return Name(raw), nil
}

// Position is where an entry's coded bytes stand.
type Position struct {
	Pack   string
	Start  int64 // of the coded bytes, in the pack
	Stored int64 // coded bytes
	Coding byte
	Size   int64 // bytes of the content
}

// Entry is something that a pack holds.
type Entry struct {
	Kind Kind
	Name Name
	Position
}

// Pack is a pack with what it holds.
type Pack struct {
	ID      string
	Bytes   int64 // of the blob
	Entries []Entry
}

func packKey(id string) string { return "packs/" + id[:2] + "/" + id }

// header is an entry's header: kind, coding, two zero bytes, stored bytes (4), size (8),
// name (32); numbers are little endian.
func (e Entry) header() []byte {
	h := make([]byte, 0, headerSize)
	h = append(h, byte(e.Kind), e.Coding, 0, 0)
	h = binary.LittleEndian.AppendUint32(h, uint32(e.Stored)) //nolint:gosec // bounded by add
	h = binary.LittleEndian.AppendUint64(h, uint64(e.Size))   //nolint:gosec // never negative
	return append(h, e.Name[:]...)
}

func parseHeader(h []byte) (e Entry, err error) {
	e.Kind, e.Coding = Kind(h[0]), h[1]
	e.Stored, e.Size = int64(binary.LittleEndian.Uint32(h[4:])), int64(
		binary.LittleEndian.Uint64(h[8:])) //nolint:gosec // checked below
	e.Name = Name(h[16:48])
	if (e.Kind != ChunkKind && e.Kind != CopyKind) || e.Coding > zstdCoding || h[2] != 0 || h[3] != 0 || e.Size < 0 {
		return e, errors.New("an entry's header makes no sense")
	}
	return e, nil
}

// packer writes entries into packs. It is safe for concurrent use; its packs count
// only once they are in the index.
type packer struct {
	v     *Vault
	mu    sync.Mutex
	open  *Pack
	out   blobs.Writer
	done  []Pack
	names map[entryKey]bool // what it has written
}

type entryKey struct {
	kind Kind
	name Name
}

func (v *Vault) newPacker() *packer { return &packer{v: v, names: map[entryKey]bool{}} }

// claim tells whether the caller is the first to write an entry here.
func (p *packer) claim(kind Kind, name Name) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.names[entryKey{kind, name}] {
		return false
	}
	p.names[entryKey{kind, name}] = true
	return true
}

// add writes an entry.
func (p *packer) add(kind Kind, name Name, coding byte, size int64, coded []byte) error {
	if int64(len(coded)) > 1<<32-1 {
		return fmt.Errorf("an entry of %d bytes is too large", len(coded))
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.open == nil {
		if err := p.begin(); err != nil {
			return err
		}
	}
	e := Entry{
		Kind: kind,
		Name: name,
		Position: Position{
			Pack:   p.open.ID,
			Start:  p.open.Bytes + headerSize,
			Stored: int64(len(coded)),
			Coding: coding,
			Size:   size,
		},
	}
	if err := p.write(e.header()); err != nil {
		return err
	}
	if err := p.write(coded); err != nil {
		return err
	}
	p.open.Entries = append(p.open.Entries, e)
	if p.open.Bytes >= packSize {
		return p.end()
	}
	return nil
}

func (p *packer) begin() error {
	id := uuid.New()
	pack := &Pack{ID: hex.EncodeToString(id[:])}
	out, err := p.v.blobs.Create(context.Background(), packKey(pack.ID))
	if err != nil {
		return err
	}
	p.v.writing.Store(pack.ID, true)
	p.open, p.out = pack, out
	return p.write([]byte(packMagic))
}

func (p *packer) write(b []byte) error {
	n, err := p.out.Write(b)
	p.open.Bytes += int64(n)
	return err
}

// end writes the directory and closes the pack.
func (p *packer) end() error {
	if p.open == nil {
		return nil
	}
	var directory []byte
	for _, e := range p.open.Entries {
		directory = append(directory, e.header()...)
	}
	sum := blake3.Sum256(directory)
	directory = append(directory, sum[:]...)
	directory = binary.LittleEndian.AppendUint32(directory,
		uint32(len(p.open.Entries))) //nolint:gosec // a pack is bounded
	if err := p.write(append(directory, packMagic...)); err != nil {
		return err
	}
	err := p.out.Close()
	if err == nil {
		p.done = append(p.done, *p.open)
		if p.v.blobs.Begin != nil {
			go p.v.blobs.Begin(packKey(p.open.ID))
		}
	}
	p.open = nil
	return err
}

// finish ends the last pack and gives all of them.
func (p *packer) finish() ([]Pack, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	err := p.end()
	return p.done, err
}

// drop gives up what was written; ended packs are left to the collection, which
// finds that nothing names them.
func (p *packer) drop() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.open != nil {
		p.out.Abort()
		p.v.writing.Delete(p.open.ID)
		p.open = nil
	}
	for _, pack := range p.done {
		p.v.writing.Delete(pack.ID)
	}
	p.done = nil
}

// readPack reads what a pack says it holds: its directory, or, where that is damaged,
// the headers before each entry as far as they go.
func (v *Vault) readPack(ctx context.Context, id string) (Pack, error) {
	pack := Pack{ID: id}
	info, err := v.blobs.Stat(ctx, packKey(id))
	if err != nil {
		return pack, err
	}
	pack.Bytes = info.Size
	if pack.Entries, err = v.readDirectory(ctx, pack); err != nil {
		var scanned error
		pack.Entries, scanned = v.scanPack(ctx, pack)
		if len(pack.Entries) == 0 {
			return pack, errors.Join(err, scanned)
		}
	}
	return pack, nil
}

func (v *Vault) readDirectory(ctx context.Context, pack Pack) ([]Entry, error) {
	if pack.Bytes < int64(len(packMagic)+endSize) {
		return nil, errors.New("it is too short for a pack")
	}
	end, err := v.readRange(ctx, pack.ID, pack.Bytes-int64(endSize), int64(endSize), nil)
	if err != nil {
		return nil, err
	}
	count := int64(binary.LittleEndian.Uint32(end[32:]))
	if string(end[36:]) != packMagic || count*headerSize > pack.Bytes {
		return nil, errors.New("its end is missing")
	}
	directory, err := v.readRange(ctx, pack.ID, pack.Bytes-int64(endSize)-count*headerSize, count*headerSize, nil)
	if err != nil {
		return nil, err
	}
	if sum := blake3.Sum256(directory); [32]byte(end[:32]) != sum {
		return nil, errors.New("its directory is damaged")
	}
	at := int64(len(packMagic))
	entries := make([]Entry, 0, count)
	for ; len(directory) > 0; directory = directory[headerSize:] {
		e, err := parseHeader(directory)
		if err != nil {
			return nil, err
		}
		e.Pack, e.Start = pack.ID, at+headerSize
		at = e.Start + e.Stored
		entries = append(entries, e)
	}
	return entries, nil
}

// scanPack goes from header to header.
func (v *Vault) scanPack(ctx context.Context, pack Pack) ([]Entry, error) {
	var entries []Entry
	for at := int64(len(packMagic)); at+headerSize <= pack.Bytes; {
		h, err := v.readRange(ctx, pack.ID, at, headerSize, nil)
		if err != nil {
			return entries, err
		}
		e, err := parseHeader(h)
		if err != nil || at+headerSize+e.Stored > pack.Bytes {
			return entries, err
		}
		e.Pack, e.Start = pack.ID, at+headerSize
		at = e.Start + e.Stored
		entries = append(entries, e)
	}
	return entries, nil
}

// readRange reads bytes of a pack, into dst's memory where they fit.
func (v *Vault) readRange(ctx context.Context, id string, at, n int64, dst []byte) ([]byte, error) {
	r, err := v.blobs.Open(ctx, packKey(id), at, n)
	if err != nil {
		return nil, err
	}
	defer r.Close() //nolint:errcheck // only read
	if int64(cap(dst)) < n {
		dst = make([]byte, n)
	}
	dst = dst[:n]
	_, err = io.ReadFull(r, dst)
	return dst, err
}
