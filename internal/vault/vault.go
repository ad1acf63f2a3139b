// Package vault stores worlds as immutable copies, addressed by content. A copy
// is a manifest of files; a file is a list of chunks; a chunk is stored once,
// whichever copies use it, and verified whenever it is read.
//
// On disk: chunks/ab/abcd… (one byte for the coding, then the content, raw or
// as a zstd frame, named by the BLAKE3-256 of the content) and copies/ID.json.
// docs/vault.md describes the format.
package vault

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

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
}

// Dir reports whether the entry is an empty folder.
func (f File) Dir() bool { return strings.HasSuffix(f.Path, "/") }

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
	// it is not read again.
	Known []Chunk
}

// Vault is a folder of this machine. It is safe for concurrent use.
type Vault struct {
	dir string
	enc *zstd.Encoder
	dec *zstd.Decoder
	buf sync.Pool // *[maxChunk]byte
}

// Open opens a vault, making its folder when it is not there. After a crash it
// verifies the chunks that the crash may have cut short.
func Open(dir string) (*Vault, error) {
	for _, sub := range []string{"chunks", "copies", "open"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
			return nil, fault.Wrap(fault.Internal, "open vault", dir, err)
		}
	}
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(runtime.GOMAXPROCS(0)), zstd.WithWindowSize(1<<20))
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "open vault", dir, err)
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(2*maxChunk))
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "open vault", dir, err)
	}
	v := &Vault{dir: dir, enc: enc, dec: dec, buf: sync.Pool{New: func() any { b := make([]byte, maxChunk); return &b }}}
	return v, v.recover()
}

// recover looks for stores that did not end. Their chunks are not yet on
// record anywhere, but a power cut may have left some empty or short, and a
// later store of the same content would trust them: verify and drop those.
func (v *Vault) recover() error {
	marks, err := os.ReadDir(filepath.Join(v.dir, "open"))
	if err != nil || len(marks) == 0 {
		return err
	}
	var since time.Time
	for _, m := range marks {
		if info, err := m.Info(); err == nil && (since.IsZero() || info.ModTime().Before(since)) {
			since = info.ModTime()
		}
	}
	err = filepath.WalkDir(filepath.Join(v.dir, "chunks"), func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil || info.ModTime().Before(since.Add(-time.Minute)) {
			return err
		}
		if strings.HasSuffix(p, ".part") {
			return os.Remove(p)
		}
		if _, err := v.readChunk(filepath.Base(p), nil); fault.CodeOf(err) == fault.Damaged {
			return os.Remove(p)
		}
		return nil
	})
	for _, m := range marks {
		err = errors.Join(err, os.Remove(filepath.Join(v.dir, "open", m.Name())))
	}
	return fault.Wrap(fault.Internal, "recover vault", v.dir, err)
}

// Store stores files as a copy. The same content gives the same id, and storing
// it again changes nothing. Memory is bounded by a few chunks. allRead, which may
// be nil, is called when every source has been read and before anything is
// synced: a caller that removes its spooled archive then saves the disk from
// writing it out.
func (v *Vault) Store(ctx context.Context, files []Source, allRead func()) (Copy, error) {
	mark, err := os.CreateTemp(filepath.Join(v.dir, "open"), "store-")
	if err != nil {
		return Copy{}, v.fail("store in", err)
	}
	defer os.Remove(mark.Name()) //nolint:errcheck // a left mark costs a check at the next start
	if err := mark.Close(); err != nil {
		return Copy{}, v.fail("store in", err)
	}
	c := Copy{Reshard: Format}
	if c.Files, c.Bytes, err = v.storeFiles(ctx, files); err != nil {
		return Copy{}, err
	}
	if allRead != nil {
		allRead()
	}
	c.ID = identify(c.Files)
	// One sync for all chunks, before the manifest names them.
	if err := v.syncAll(); err != nil {
		return Copy{}, v.fail("store in", err)
	}
	return c, v.writeManifest(c)
}

// identify hashes what a copy is: parts, paths and content. Times do not count,
// so the same world sent twice is one copy. Files must be sorted.
func identify(files []File) string {
	h := blake3.New()
	_, _ = h.WriteString(Format + "\n") // a hash never fails to write
	for _, f := range files {
		_, _ = fmt.Fprintf(h, "%q %q %d\n", f.Part, f.Path, f.Size)
		for _, c := range f.Chunks {
			_, _ = fmt.Fprintf(h, "%s %d\n", c.Hash, c.Size)
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

func (v *Vault) syncAll() error {
	d, err := os.Open(v.dir)
	if err != nil {
		return err
	}
	defer d.Close() //nolint:errcheck // Syncfs has told all there is to tell
	return unix.Syncfs(int(d.Fd()))
}

func (v *Vault) writeManifest(c Copy) error {
	to := filepath.Join(v.dir, "copies", c.ID+".json")
	if _, err := os.Stat(to); err == nil {
		return nil
	}
	data, err := json.Marshal(c)
	if err != nil {
		return v.fail("store in", err)
	}
	return v.fail("store in", writeSynced(to, data))
}

func writeSynced(to string, data []byte) (err error) {
	f, err := os.CreateTemp(filepath.Dir(to), "new-*.part")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = os.Remove(f.Name()) // the first error is the one to tell
		}
	}()
	_, err = f.Write(data)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Rename(f.Name(), to); err != nil {
		return err
	}
	d, err := os.Open(filepath.Dir(to))
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

func (v *Vault) fail(op string, err error) error {
	code := fault.Internal
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		code = fault.NoSpace
	}
	return fault.Wrap(code, op, "the vault", err)
}

// storeFiles stores several files at a time: reading and cutting are quick,
// hashing and compressing are not.
func (v *Vault) storeFiles(ctx context.Context, files []Source) ([]File, int64, error) {
	out := make([]File, len(files))
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, f := range files {
		group.Go(func() (err error) {
			if err := context.Cause(gctx); err != nil {
				return fault.Wrap(fault.Interrupted, "store", f.Path, err)
			}
			out[i], err = v.storeFile(gctx, f)
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

func (v *Vault) storeFile(ctx context.Context, s Source) (f File, err error) {
	f = File{Part: s.Part, Path: s.Path, Modified: s.Modified.UTC().Truncate(time.Second)}
	if s.Open == nil {
		return f, nil
	}
	if len(s.Known) > 0 {
		f.Chunks = s.Known
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
	err = split(in, *buf, func(chunk []byte) error {
		if err := context.Cause(ctx); err != nil {
			return fault.Wrap(fault.Interrupted, "store", s.Path, err)
		}
		c, err := v.storeChunk(chunk)
		if err != nil {
			return err
		}
		f.Chunks = append(f.Chunks, c)
		f.Size += c.Size
		return nil
	})
	return f, fault.Wrap(fault.Internal, "read", s.Path, err)
}

// The codings of a stored chunk.
const (
	rawCoding  = 0
	zstdCoding = 1
)

func (v *Vault) chunkPath(hash string) string {
	return filepath.Join(v.dir, "chunks", hash[:2], hash)
}

func (v *Vault) storeChunk(data []byte) (Chunk, error) {
	sum := blake3.Sum256(data)
	c := Chunk{Hash: hex.EncodeToString(sum[:]), Size: int64(len(data))}
	to := v.chunkPath(c.Hash)
	if _, err := os.Stat(to); err == nil {
		return c, nil
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return c, v.fail("store in", err)
	}
	buf := v.buf.Get().(*[]byte)
	defer v.buf.Put(buf)
	coded := v.enc.EncodeAll(data, append((*buf)[:0], zstdCoding))
	if len(coded) > len(data) {
		coded = append(append(coded[:0], rawCoding), data...)
	}
	f, err := os.CreateTemp(filepath.Dir(to), "new-*.part")
	if err != nil {
		return c, v.fail("store in", err)
	}
	_, err = f.Write(coded)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), to)
	}
	if err != nil {
		_ = os.Remove(f.Name()) // the first error is the one to tell
	}
	return c, v.fail("store in", err)
}

// readChunk reads and verifies one chunk, into dst's memory where it fits.
func (v *Vault) readChunk(hash string, dst []byte) ([]byte, error) {
	damaged := func(format string, args ...any) error {
		return fault.New(fault.Damaged, "read chunk", hash, format, args...)
	}
	if !idPattern.MatchString(hash) {
		return nil, damaged("not a chunk's name")
	}
	coded, err := os.ReadFile(v.chunkPath(hash))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, damaged("it is not in the vault")
	}
	if err != nil {
		return nil, v.fail("read", err)
	}
	if len(coded) == 0 {
		return nil, damaged("it is empty")
	}
	var data []byte
	switch coded[0] {
	case rawCoding:
		data = append(dst[:0], coded[1:]...)
	case zstdCoding:
		if data, err = v.dec.DecodeAll(coded[1:], dst[:0]); err != nil {
			return nil, damaged("it does not decompress: %v", err)
		}
	default:
		return nil, damaged("unknown coding %d", coded[0])
	}
	if sum := blake3.Sum256(data); hex.EncodeToString(sum[:]) != hash {
		return nil, damaged("its content does not match its name")
	}
	return data, nil
}

var idPattern = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Load reads a copy's manifest and verifies that it is the one of that id.
func (v *Vault) Load(id string) (Copy, error) {
	if !idPattern.MatchString(id) {
		return Copy{}, fault.New(fault.NotFound, "load copy", id, "not a copy's id")
	}
	data, err := os.ReadFile(filepath.Join(v.dir, "copies", id+".json"))
	if errors.Is(err, fs.ErrNotExist) {
		return Copy{}, fault.New(fault.NotFound, "load copy", id, "it is not in the vault")
	}
	if err != nil {
		return Copy{}, v.fail("load from", err)
	}
	var c Copy
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&c); err != nil || c.Reshard != Format || identify(c.Files) != id {
		return Copy{}, fault.New(fault.Damaged, "load copy", id, "its manifest does not match its id")
	}
	return c, nil
}

// Read opens a file of a copy; every chunk is verified before its bytes are given out.
func (v *Vault) Read(f File) io.Reader { return &fileReader{v: v, chunks: f.Chunks} }

type fileReader struct {
	v      *Vault
	chunks []Chunk
	buf    []byte // memory of the last chunk
	rest   []byte // what of it has not been given out
}

// next makes the next chunk's bytes available, io.EOF at the end.
func (r *fileReader) next() error {
	for len(r.rest) == 0 {
		if len(r.chunks) == 0 {
			return io.EOF
		}
		data, err := r.v.readChunk(r.chunks[0].Hash, r.buf)
		if err != nil {
			return err
		}
		r.buf, r.rest, r.chunks = data, data, r.chunks[1:]
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

// Verify reads a whole copy back.
func (v *Vault) Verify(ctx context.Context, c Copy) error {
	for _, f := range c.Files {
		if err := context.Cause(ctx); err != nil {
			return fault.Wrap(fault.Interrupted, "verify", c.ID, err)
		}
		if _, err := io.Copy(io.Discard, v.Read(f)); err != nil {
			return fault.Wrap(fault.Damaged, "verify "+f.Path+" of", c.ID, err)
		}
	}
	return nil
}
