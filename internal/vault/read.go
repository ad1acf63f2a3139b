package vault

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"maps"
	"sync"

	"github.com/zeebo/blake3"

	"reshard/internal/core/fault"
)

// places remembers where chunks stand, so that reading a file asks the index once.
type places struct {
	mu sync.Mutex
	at map[Name]Position
}

// mostPlaces bounds what is remembered; it holds the chunks of a world of some GB.
const mostPlaces = 50_000

func (p *places) get(n Name) (Position, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	at, ok := p.at[n]
	return at, ok
}

func (p *places) put(found map[Name]Position) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.at == nil || len(p.at)+len(found) > mostPlaces {
		p.at = map[Name]Position{}
	}
	maps.Copy(p.at, found)
}

func (p *places) forget(n Name) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.at, n)
}

// lookUp finds where chunks stand, the first of them and as many of the others as are
// asked for at a time.
func (v *Vault) lookUp(ctx context.Context, chunks []Chunk) (Position, error) {
	first, err := ParseName(chunks[0].Hash)
	if err != nil {
		return Position{}, damaged(chunks[0].Hash, "not a chunk's name")
	}
	if at, ok := v.places.get(first); ok {
		return at, nil
	}
	names := make([]Name, 0, min(len(chunks), 1000))
	for _, c := range chunks[:cap(names)] {
		if n, err := ParseName(c.Hash); err == nil {
			names = append(names, n)
		}
	}
	found, err := v.index.Find(ctx, ChunkKind, names)
	if err != nil {
		return Position{}, v.fail("read", err)
	}
	v.places.put(found)
	at, ok := found[first]
	if !ok {
		return at, damaged(chunks[0].Hash, "it is not in the vault")
	}
	return at, nil
}

// Expect tells that a copy is going to be read: the index is asked for its chunks a
// thousand at a time, not file by file.
func (v *Vault) Expect(ctx context.Context, c Copy) {
	var chunks []Chunk
	for _, f := range c.Files {
		if chunks = append(chunks, f.Chunks...); len(chunks) >= 1000 {
			_, _ = v.lookUp(ctx, chunks) // reading will tell
			chunks = chunks[:0]
		}
	}
	if len(chunks) > 0 {
		_, _ = v.lookUp(ctx, chunks) // reading will tell
	}
}

func damaged(name, format string, args ...any) error {
	return fault.New(fault.Damaged, "read chunk", name, "the library's copy is damaged: "+format, args...).
		With("reshard vault check mends it from a store that has it whole. If none has, bring the world again from " +
			"where it came from: that stores its chunks anew.")
}

// readChunk reads and verifies the first of chunks, into dst's memory where it fits. One that is damaged or gone is
// mended first, where that is possible.
func (v *Vault) readChunk(ctx context.Context, chunks []Chunk, dst []byte) ([]byte, error) {
	data, pack, err := v.readStored(ctx, chunks, dst)
	if v.mended(ctx, pack, err) {
		data, _, err = v.readStored(ctx, chunks, dst)
	}
	return data, err
}

// readStored does so with what is there, and says which pack it is in, as far as the index knows.
func (v *Vault) readStored(ctx context.Context, chunks []Chunk, dst []byte) (data []byte, pack string, err error) {
	for again := false; ; again = true {
		at, err := v.lookUp(ctx, chunks)
		if err != nil {
			return nil, "", err
		}
		name, err := ParseName(chunks[0].Hash)
		if err != nil {
			return nil, "", err
		}
		data, err := v.readEntry(ctx, Entry{Kind: ChunkKind, Name: name, Position: at}, dst)
		if !errors.Is(err, fs.ErrNotExist) || again {
			if errors.Is(err, fs.ErrNotExist) {
				err = damaged(chunks[0].Hash, "the pack %s is not there", at.Pack)
			}
			return data, at.Pack, err
		}
		v.places.forget(name) // a collection has moved it meanwhile
	}
}

// readEntry reads an entry and, of a chunk, verifies it. The error for a pack that is
// not there is the blob store's own.
func (v *Vault) readEntry(ctx context.Context, e Entry, dst []byte) ([]byte, error) {
	buf := v.buf.Get().(*[]byte)
	defer v.buf.Put(buf)
	coded, err := v.readRange(ctx, e.Pack, e.Start, e.Stored, *buf)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, err
	case err == io.ErrUnexpectedEOF || err == io.EOF:
		return nil, damaged(e.Name.String(), "the pack %s is cut short", e.Pack)
	case err != nil:
		return nil, v.fail("read", err)
	}
	return v.decode(e, coded, dst)
}

func (v *Vault) decode(e Entry, coded, dst []byte) (data []byte, err error) {
	switch e.Coding {
	case rawCoding:
		data = append(dst[:0], coded...)
	case zstdCoding:
		if data, err = v.dec[e.Kind].DecodeAll(coded, dst[:0]); err != nil {
			return nil, damaged(e.Name.String(), "it does not decompress: %v", err)
		}
	default:
		return nil, damaged(e.Name.String(), "unknown coding %d", e.Coding)
	}
	if int64(len(data)) != e.Size || (e.Kind == ChunkKind && blake3.Sum256(data) != e.Name) {
		return nil, damaged(e.Name.String(), "its content does not match its name")
	}
	return data, nil
}

// Read opens a file of a copy, to be read while ctx lasts; every chunk is verified before
// its bytes are given out.
func (v *Vault) Read(ctx context.Context, f File) io.Reader {
	return &fileReader{v: v, ctx: ctx, chunks: f.Chunks}
}

// ReadFrom reads a file from a place in it.
func (v *Vault) ReadFrom(ctx context.Context, f File, at int64) io.Reader {
	chunks := f.Chunks
	for len(chunks) > 0 && chunks[0].Size <= at {
		at -= chunks[0].Size
		chunks = chunks[1:]
	}
	return &skipping{from: &fileReader{v: v, ctx: ctx, chunks: chunks}, skip: at}
}

// skipping leaves the beginning out.
type skipping struct {
	from io.Reader
	skip int64
}

func (s *skipping) Read(p []byte) (int, error) {
	if s.skip > 0 {
		n, err := io.CopyN(io.Discard, s.from, s.skip)
		if s.skip -= n; err != nil {
			return 0, err
		}
	}
	return s.from.Read(p)
}

// fileReader reads the next chunk while the last one is being used.
type fileReader struct {
	v      *Vault
	ctx    context.Context
	chunks []Chunk
	buf    []byte         // memory of the last chunk
	rest   []byte         // what of it has not been given out
	ahead  chan readAhead // the next chunk, once it is being read
}

type readAhead struct {
	data []byte
	err  error
}

// next makes the next chunk's bytes available, io.EOF at the end.
func (r *fileReader) next() error {
	for len(r.rest) == 0 {
		if len(r.chunks) == 0 {
			return io.EOF
		}
		var got readAhead
		if r.ahead != nil {
			got = <-r.ahead
		} else {
			got.data, got.err = r.v.readChunk(r.ctx, r.chunks, r.buf)
		}
		if got.err != nil {
			r.ahead = nil
			return got.err
		}
		free := r.buf
		if r.ahead == nil {
			free = nil
		}
		r.buf, r.rest, r.chunks, r.ahead = got.data, got.data, r.chunks[1:], nil
		if len(r.chunks) > 0 {
			ahead, chunks := make(chan readAhead, 1), r.chunks
			go func() {
				var got readAhead
				got.err = fault.Safely(func() (err error) {
					got.data, err = r.v.readChunk(r.ctx, chunks, free)
					return err
				})
				ahead <- got
			}()
			r.ahead = ahead
		}
	}
	return nil
}

func (r *fileReader) Read(p []byte) (int, error) {
	if err := r.next(); err != nil {
		return 0, err
	}
	n := copy(p, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

// WriteTo hands whole chunks on, for io.Copy.
func (r *fileReader) WriteTo(w io.Writer) (total int64, err error) {
	for {
		if err := r.next(); err != nil {
			if err == io.EOF {
				err = nil
			}
			return total, err
		}
		n, err := w.Write(r.rest)
		total += int64(n)
		r.rest = r.rest[n:]
		if err != nil {
			return total, err
		}
	}
}
