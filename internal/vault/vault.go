// Package vault stores worlds as immutable copies, addressed by content. A copy
// is a manifest of files; a file is a list of chunks; a chunk is stored once,
// whichever copies use it, and verified whenever it is read. Chunks and manifests
// are kept in packs, which are blobs; an index, which can be made anew from the
// packs, knows where each stands. docs/vault.md describes the formats.
package vault

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
	"golang.org/x/crypto/blake2b"
	"golang.org/x/sync/errgroup"

	"reshard/internal/blobs"
	"reshard/internal/core/fault"
)

// Format is the first value of every manifest.
const Format = "copy/1"

// File is one file of a copy.
type File struct {
	Part     string    `json:"part,omitempty"` // "" or a realm that stands beside the world
	Path     string    `json:"path"`           // within the part; ends in "/" for an empty folder
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Chunks   []Chunk   `json:"chunks,omitempty"`
	// Sum is the BLAKE2b-256 (RFC 7693) of the whole file in hexadecimal digits: what other
	// machines have a program for. "" where the file was not read when it was stored.
	Sum string `json:"sum,omitempty"`
}

// Dir reports whether the entry is an empty folder.
func (f File) Dir() bool { return strings.HasSuffix(f.Path, "/") }

// NewSum gives the hash that File.Sum is made with.
func NewSum() hash.Hash {
	h, err := blake2b.New256(nil)
	if err != nil {
		panic(err) // only a key that is too long is an error
	}
	return h
}

// Chunk is a piece of a file: the BLAKE3-256 of its bytes, and how many.
type Chunk struct {
	Hash string `json:"hash"`
	Size int64  `json:"size"`
}

// Copy is an immutable stored state of a world.
type Copy struct {
	Reshard string `json:"reshard"`
	ID      string `json:"id"` // 64 hexadecimal digits
	Files   []File `json:"files"`
	Bytes   int64  `json:"bytes"`
}

// Parts lists the parts that the copy has, the world's own ("") first.
func (c Copy) Parts() []string {
	var out []string
	for _, f := range c.Files {
		if !slices.Contains(out, f.Part) {
			out = append(out, f.Part)
		}
	}
	slices.Sort(out)
	return out
}

// Source is a file to be stored.
type Source struct {
	Part     string
	Path     string
	Modified time.Time
	Open     func() (io.ReadCloser, error) // nil for an empty folder
	// Known are the chunks of a file that is in the vault already and has not changed:
	// it is not read again. Storing fails with fault.Changed when they are not there.
	Known []Chunk
	// Sum is the whole file's hash, as of File, of a known file; "" is not known.
	Sum string
}

// Vault is a store of copies. It is safe for concurrent use; one process at a time
// uses its blobs and index.
type Vault struct {
	// Trace, when set, is told where a collection stands; tests cut it there. It is set before the vault is used.
	Trace func(point string)
	// Mender, when set, is asked for a pack that is damaged or gone; "" is whatever could not be mended before. nil: it
	// is whole again, as another place had it. It is set before the vault is used.
	Mender func(ctx context.Context, pack string) error

	blobs blobs.Store
	index Index
	now   func() time.Time
	enc   *zstd.Encoder
	dec   map[Kind]*zstd.Decoder
	buf   sync.Pool // *[splitBuffer]byte

	// storing is held for reading while something is stored, and for writing while a
	// collection decides what nothing needs: what a store has found stays until it ends.
	storing     sync.RWMutex
	beingStored atomic.Int32
	collecting  sync.Mutex
	writing     sync.Map // ids of packs that are not in the index yet
	fresh       sync.Map // ids of copies to when they were stored, in this life
	known       filter
	places      places
	// lists are the copies' lists that were read last, by their bytes: reading them again is quick, but a
	// backup of a large world that has hardly changed does little else.
	lists *lru.Cache[[32]byte, Copy]
}

// keptLists is how many lists are kept, and longestKept the size in bytes that one may have.
const (
	keptLists   = 4
	longestKept = 4 << 20
)

// Open opens a vault.
func Open(ctx context.Context, packs blobs.Store, index Index) (*Vault, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithEncoderConcurrency(runtime.GOMAXPROCS(0)), zstd.WithWindowSize(1<<20), zstd.WithEncoderCRC(false))
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "open", "the vault", err)
	}
	dec := map[Kind]*zstd.Decoder{}
	for kind, largest := range map[Kind]uint64{ChunkKind: 2 * LongestChunk, CopyKind: largestManifest} {
		if dec[kind], err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0),
			zstd.WithDecoderMaxMemory(largest)); err != nil {
			return nil, fault.Wrap(fault.Internal, "open", "the vault", err)
		}
	}
	v := &Vault{
		blobs: packs,
		index: index,
		now:   time.Now,
		enc:   enc,
		dec:   dec,
		buf:   sync.Pool{New: func() any { b := make([]byte, splitBuffer); return &b }},
	}
	if v.lists, err = lru.New[[32]byte, Copy](keptLists); err != nil {
		return nil, fault.Wrap(fault.Internal, "open", "the vault", err)
	}
	return v, v.learn(ctx)
}

// learn fills the filter of known chunks.
func (v *Vault) learn(ctx context.Context) error {
	return fault.Wrap(fault.Internal, "read index of", "the vault", v.index.Names(ctx, ChunkKind, v.known.add))
}

// largestManifest bounds a copy's manifest, in bytes: some millions of files.
const largestManifest = 1 << 30

// beginStoring holds collections off until what it gives is called.
func (v *Vault) beginStoring() (end func()) {
	v.storing.RLock()
	v.beingStored.Add(1)
	return func() {
		v.beingStored.Add(-1)
		v.storing.RUnlock()
	}
}

// Store stores files as a copy. The same content gives the same id, and storing
// it again changes nothing. Memory is bounded by a few chunks. allRead, which may
// be nil, is called when every source has been read and before anything is
// synced: a caller that removes its spooled archive then saves the disk from
// writing it out.
func (v *Vault) Store(ctx context.Context, files []Source, allRead func()) (Copy, error) {
	defer v.beginStoring()()
	p := v.newPacker()
	defer p.drop()
	c := Copy{Reshard: Format}
	var err error
	if c.Files, c.Bytes, err = v.storeFiles(ctx, p, files); err != nil {
		return Copy{}, err
	}
	if allRead != nil {
		allRead()
	}
	if err := v.stillThere(ctx, files); err != nil {
		return Copy{}, err
	}
	c.ID = identify(c.Files)
	if err := v.packManifest(ctx, p, c); err != nil {
		return Copy{}, v.fail("store in", err)
	}
	if err := v.publish(ctx, p); err != nil {
		return Copy{}, v.fail("store in", err)
	}
	v.fresh.Store(c.ID, v.now())
	return c, nil
}

// stillThere verifies that what callers say is known is in the vault.
func (v *Vault) stillThere(ctx context.Context, files []Source) error {
	var known []string
	for _, f := range files {
		for _, c := range f.Known {
			known = append(known, c.Hash)
		}
	}
	lacking, err := v.Lacking(ctx, known)
	if err == nil && len(lacking) > 0 {
		err = fault.New(fault.Changed, "store in", "the vault", "%d chunks are not there (any more)", len(lacking)).
			With("Send them, and try again.")
	}
	return err
}

// publish makes packs durable, and only then known.
func (v *Vault) publish(ctx context.Context, p *packer) error {
	packs, err := p.finish()
	if err != nil || len(packs) == 0 {
		return err
	}
	if v.blobs.Sync != nil {
		if err := v.blobs.Sync(); err != nil {
			return err
		}
	}
	if err := v.index.Add(ctx, packs, v.now()); err != nil {
		return err
	}
	for _, pack := range packs {
		for _, e := range pack.Entries {
			if e.Kind == ChunkKind {
				v.known.add(e.Name)
			}
		}
	}
	return nil
}

func (v *Vault) packManifest(ctx context.Context, p *packer, c Copy) error {
	name, err := ParseName(c.ID)
	if err != nil {
		return err
	}
	if places, err := v.index.Find(ctx, CopyKind, []Name{name}); err != nil || len(places) > 0 {
		return err
	}
	data, err := json.Marshal(c)
	if err != nil {
		return err
	}
	if len(data) > largestManifest {
		return fault.New(fault.TooLarge, "store", "copy", "%d files are more than a copy can list", len(c.Files))
	}
	if len(data) <= longestKept {
		kept := c
		kept.Files = slices.Clone(c.Files)
		v.lists.Add(blake3.Sum256(data), kept)
	}
	return p.add(CopyKind, name, zstdCoding, int64(len(data)), v.enc.EncodeAll(data, nil))
}

// identify hashes what a copy is: parts, paths and content. Times do not count,
// so the same world sent twice is one copy. Files must be sorted.
func identify(files []File) string {
	id := newIdentifier()
	for _, f := range files {
		id.add(f)
	}
	return id.sum()
}

// identifier hashes a copy file by file.
type identifier struct{ h *blake3.Hasher }

func newIdentifier() identifier {
	id := identifier{blake3.New()}
	_, _ = id.h.WriteString(Format + "\n") // a hash never fails to write
	return id
}

func (id identifier) add(f File) {
	_, _ = fmt.Fprintf(id.h, "%q %q %d\n", f.Part, f.Path, f.Size)
	for _, c := range f.Chunks {
		_, _ = fmt.Fprintf(id.h, "%s %d\n", c.Hash, c.Size)
	}
}

func (id identifier) sum() string { return hex.EncodeToString(id.h.Sum(nil)) }

func (v *Vault) fail(op string, err error) error {
	var coded *fault.Error
	if errors.As(err, &coded) {
		return err
	}
	code := fault.Internal
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		code = fault.NoSpace
	}
	return fault.Wrap(code, op, "the vault", err)
}

// storeFiles stores several files at a time: reading and cutting are quick,
// hashing and compressing are not.
func (v *Vault) storeFiles(ctx context.Context, p *packer, files []Source) ([]File, int64, error) {
	out := make([]File, len(files))
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, f := range files {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			if err := context.Cause(gctx); err != nil {
				return fault.Wrap(fault.Interrupted, "store", f.Path, err)
			}
			out[i], err = v.storeFile(gctx, p, f)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, 0, err
	}
	slices.SortFunc(out, func(a, b File) int {
		return strings.Compare(a.Part+"\x00"+a.Path, b.Part+"\x00"+b.Path)
	})
	var total int64
	for _, f := range out {
		total += f.Size
	}
	return out, total, nil
}

func (v *Vault) storeFile(ctx context.Context, p *packer, s Source) (f File, err error) {
	f = File{Part: s.Part, Path: s.Path, Modified: s.Modified.UTC().Truncate(time.Second)}
	if s.Open == nil {
		return f, nil
	}
	if len(s.Known) > 0 {
		f.Chunks, f.Sum = s.Known, s.Sum
		for _, c := range s.Known {
			f.Size += c.Size
		}
		return f, nil
	}
	in, err := s.Open()
	if err != nil {
		return f, fault.Wrap(fault.Internal, "read", s.Path, err)
	}
	defer in.Close() //nolint:errcheck // only read
	buf := v.buf.Get().(*[]byte)
	defer v.buf.Put(buf)
	sum := NewSum()
	err = split(in, *buf, func(chunk []byte) error {
		if err := context.Cause(ctx); err != nil {
			return fault.Wrap(fault.Interrupted, "store", s.Path, err)
		}
		_, _ = sum.Write(chunk) // it never fails (hash.Hash)
		c, err := v.storeChunk(ctx, p, chunk)
		if err != nil {
			return err
		}
		f.Chunks = append(f.Chunks, c)
		f.Size += c.Size
		return nil
	})
	f.Sum = hex.EncodeToString(sum.Sum(nil))
	return f, fault.Wrap(fault.Internal, "read", s.Path, err)
}

// The codings of a stored chunk.
const (
	rawCoding  = 0
	zstdCoding = 1
)

func (v *Vault) storeChunk(ctx context.Context, p *packer, data []byte) (Chunk, error) {
	name := Name(blake3.Sum256(data))
	c := Chunk{Hash: name.String(), Size: int64(len(data))}
	if !p.claim(ChunkKind, name) {
		return c, nil
	}
	if v.known.maybe(name) {
		if places, err := v.index.Find(ctx, ChunkKind, []Name{name}); err != nil || len(places) > 0 {
			return c, v.fail("store in", err)
		}
	}
	buf := v.buf.Get().(*[]byte)
	defer v.buf.Put(buf)
	coding, coded := byte(zstdCoding), v.enc.EncodeAll(data, (*buf)[:0])
	if len(coded) >= len(data) {
		coding, coded = rawCoding, data
	}
	return c, v.fail("store in", p.add(ChunkKind, name, coding, c.Size, coded))
}

// Load reads a copy's manifest and verifies that it is the one of that id. What is damaged or gone is mended first,
// where that is possible.
func (v *Vault) Load(ctx context.Context, id string) (Copy, error) {
	c, pack, err := v.load(ctx, id)
	if v.mended(ctx, pack, err) {
		c, _, err = v.load(ctx, id)
	}
	return c, err
}

// mended reports whether what an error tells of has been mended, so that it can be read once more.
func (v *Vault) mended(ctx context.Context, pack string, err error) bool {
	code := fault.CodeOf(err)
	broken := errors.Is(err, fs.ErrNotExist) || code == fault.Damaged || code == fault.NotFound
	return broken && v.Mender != nil && v.Mender(ctx, pack) == nil
}

// load does so with what is there, and says which pack the manifest is in, as far as the index knows.
func (v *Vault) load(ctx context.Context, id string) (c Copy, pack string, err error) {
	name, err := ParseName(id)
	if err != nil {
		return c, "", fault.New(fault.NotFound, "load copy", id, "not a copy's id")
	}
	places, err := v.index.Find(ctx, CopyKind, []Name{name})
	if err != nil {
		return c, "", v.fail("load from", err)
	}
	place, ok := places[name]
	if !ok {
		return c, "", fault.New(fault.NotFound, "load copy", id, "it is not in the vault").
			With("If it was there before, reshard vault check mends it from a store that has it.")
	}
	data, err := v.readEntry(ctx, Entry{Kind: CopyKind, Name: name, Position: place}, nil)
	if err == nil {
		c, err = v.parseList(id, data)
	}
	return c, place.Pack, err
}

// parseList is parseManifest for bytes that may have been parsed before.
func (v *Vault) parseList(id string, data []byte) (Copy, error) {
	if len(data) > longestKept {
		return parseManifest(id, data)
	}
	sum := blake3.Sum256(data)
	c, ok := v.lists.Get(sum)
	if !ok || c.ID != id {
		var err error
		if c, err = parseManifest(id, data); err != nil {
			return c, err
		}
		v.lists.Add(sum, c)
	}
	c.Files = slices.Clone(c.Files)
	return c, nil
}

func parseManifest(id string, data []byte) (c Copy, err error) {
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&c); err != nil || c.Reshard != Format || c.ID != id || identify(c.Files) != id {
		return Copy{}, fault.New(fault.Damaged, "load copy", id, "its manifest does not match its id")
	}
	return c, nil
}

// Verify reads a whole copy back.
func (v *Vault) Verify(ctx context.Context, c Copy) error {
	for _, f := range c.Files {
		if err := context.Cause(ctx); err != nil {
			return fault.Wrap(fault.Interrupted, "verify", c.ID, err)
		}
		if _, err := io.Copy(io.Discard, v.Read(ctx, f)); err != nil {
			return fault.Wrap(fault.Damaged, "verify "+f.Path+" of", c.ID, err)
		}
	}
	return nil
}
