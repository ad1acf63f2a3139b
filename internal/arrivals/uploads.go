package arrivals

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
	"reshard/internal/library"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// Kept is how long an upload that nobody goes on with is kept.
const Kept = 3 * 24 * time.Hour

// spare is what an arrival must leave free on the service's disk, in bytes.
const spare = 256 << 20

// upload is what the tus handler's file store writes beside an upload's bytes.
type upload struct {
	ID       string
	Size     int64
	MetaData map[string]string
}

// uploadID is what the file store calls an upload.
var uploadID = regexp.MustCompile(`^[0-9a-f]{32}$`)

// Folder is where uploads are kept until they have arrived.
func (arr *Arrivals) Folder() string { return arr.dir }

// Disk tells how much is free on the disk of the service's data folder, and how much it has, in bytes.
func (arr *Arrivals) Disk() (free, total int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(arr.dir, &st); err != nil {
		return 0, 0, fault.Wrap(fault.Internal, "look at", "the disk of the data folder", err)
	}
	return int64(st.Bavail) * st.Bsize, int64(st.Blocks) * st.Bsize, nil
}

// Room refuses what does not fit on the service's disk before it is sent. bytes is what
// will be stored; times says how often it is there at once.
func (arr *Arrivals) Room(name string, bytes, times int64) error {
	return arr.roomFor(name, bytes, times, "")
}

// roomFor refuses also another upload of a sender whose uploads would together keep more than half of the room: uploads
// that are announced and never come must not block the others. One upload may use all of it.
func (arr *Arrivals) roomFor(name string, bytes, times int64, by string) error {
	var st unix.Statfs_t
	if err := unix.Statfs(arr.dir, &st); err != nil || bytes < 0 {
		return nil // it will be found out on the way
	}
	if limit := arr.limits.Defaults().Bytes; bytes > limit {
		return fault.New(fault.TooLarge, "receive", name, "%d bytes are announced; %d are the limit", bytes, limit).
			With("If it is the right file, start the service with a greater --largest-arrival.")
	}
	promised, theirs := arr.promised(by)
	room := int64(st.Bavail)*st.Bsize - spare
	if by != "" && theirs > 0 && theirs+bytes*times > room/2 {
		return fault.New(fault.NoSpace, "receive", name, "your uploads under way keep more than half of the room").
			With("Wait until they have arrived, or remove some: reshard arrivals.")
	}
	if free := room - promised; bytes > free/times {
		return fault.New(fault.NoSpace, "receive", name, "%d bytes are announced and the service can take %d", bytes,
			max(0, free/times)).
			With("Free space in the service's data folder.")
	}
	return nil
}

// keepsRoom is how long an upload keeps its room after its last byte. It may resume later if there is room.
const keepsRoom = time.Hour

// promised is the room that uploads which have begun will still need, in bytes: of all, and of one sender.
func (arr *Arrivals) promised(by string) (all, theirs int64) {
	files, err := filepath.Glob(filepath.Join(arr.dir, "*.info"))
	if err != nil {
		return 0, 0 // the pattern is one
	}
	add := func(sender string, bytes int64) {
		all += bytes
		if sender == by {
			theirs += bytes
		}
	}
	for _, f := range files {
		u, offset, last, err := arr.uploadOf(strings.TrimSuffix(filepath.Base(f), ".info"))
		if err == nil && arr.now().Sub(last) < keepsRoom {
			add(u.MetaData["by"], max(0, u.Size*inAll-offset))
		}
	}
	arr.held.Range(func(_, kept any) bool {
		add(kept.(held).by, kept.(held).bytes)
		return true
	})
	return all, theirs
}

// held is room for what has been admitted and is not in the folder yet.
type held struct {
	by    string
	bytes int64
}

// inAll is how often an arrival is there at once: the archive and, beside it, its content.
const inAll = 2

// hold keeps room for what has been admitted and is not in the folder yet; forget gives it
// back.
func (arr *Arrivals) hold(by string, bytes int64) (forget func()) {
	key := new(int)
	arr.held.Store(key, held{by, bytes})
	return func() { arr.held.Delete(key) }
}

func (arr *Arrivals) uploadOf(id string) (u upload, offset int64, last time.Time, err error) {
	if !uploadID.MatchString(id) {
		return u, 0, last, fault.New(fault.NotFound, "find arrival", id, "there is none of that id").
			With("reshard arrivals lists them.")
	}
	file := filepath.Join(arr.dir, id)
	data, err := os.ReadFile(file + ".info")
	if errors.Is(err, fs.ErrNotExist) {
		return u, 0, last, fault.New(fault.NotFound, "find arrival", id, "there is none of that id").
			With("reshard arrivals lists them.")
	}
	if err == nil {
		err = json.Unmarshal(data, &u)
	}
	if err != nil {
		return u, 0, last, fault.Wrap(fault.Internal, "read arrival", id, err)
	}
	info, err := os.Stat(file)
	if err != nil {
		return u, 0, last, fault.Wrap(fault.Internal, "read arrival", id, err)
	}
	return u, info.Size(), info.ModTime(), nil
}

// List lists the uploads that have not become a copy, newest first.
func (arr *Arrivals) List(ctx context.Context) ([]wire.Unfinished, error) {
	files, err := filepath.Glob(filepath.Join(arr.dir, "*.info"))
	if err != nil {
		return nil, fault.Wrap(fault.Internal, "list", "arrivals", err)
	}
	out := []wire.Unfinished{}
	for _, f := range files {
		u, offset, last, err := arr.uploadOf(strings.TrimSuffix(filepath.Base(f), ".info"))
		if err != nil || u.MetaData["kind"] == chunksKind {
			continue // it has just arrived, or is part of something that the sender puts together
		}
		goes := last.Add(Kept)
		if age, err := arr.age(ctx, "upload "+u.ID, last); err == nil {
			goes = arr.now().Add(Kept - age)
		}
		out = append(out, wire.Unfinished{
			ID:       u.ID,
			Name:     u.MetaData["name"],
			By:       u.MetaData["by"],
			Size:     u.Size,
			Received: offset,
			Last:     last,
			Goes:     goes,
		})
	}
	slices.SortFunc(out, func(a, b wire.Unfinished) int { return b.Last.Compare(a.Last) })
	return out, nil
}

// chunksKind marks an upload that is a bundle of chunks.
const chunksKind = "chunks"

// Admit says whether an upload may begin, and what to note of it. Its room is kept until
// begun is called, when it is in the folder or will never be.
func (arr *Arrivals) Admit(meta map[string]string, size int64, by string) (noted map[string]string, begun func(),
	err error) {
	name := filepath.Base(filepath.FromSlash(meta["name"]))
	if err := plainName(name); err != nil {
		return nil, nil, err
	}
	if meta["kind"] != "" && meta["kind"] != chunksKind {
		return nil, nil, fault.New(fault.Invalid, "receive", name, "an upload's kind is left out, or %s", chunksKind)
	}
	if meta["kind"] == "" && (meta["name"] == "" || len(name) > 255) {
		return nil, nil, fault.New(fault.Invalid, "receive", name,
			"the upload's metadata must give the file's name, of at most 255 bytes, as name")
	}
	arr.admitting.Lock() // of many that come at once each finds what the others have been promised
	defer arr.admitting.Unlock()
	if err := arr.roomFor(name, size, inAll, by); err != nil {
		return nil, nil, err
	}
	noted = map[string]string{"name": name, "by": by}
	if meta["kind"] != "" {
		noted["kind"] = meta["kind"]
	}
	return noted, arr.hold(by, size*inAll), nil
}

// Finished is called when the last byte of an upload has come: chunks are taken into
// the vault at once, before their sender is told that they have arrived.
func (arr *Arrivals) Finished(ctx context.Context, id string) error {
	u, size, _, err := arr.uploadOf(id)
	if err != nil || u.MetaData["kind"] != chunksKind {
		return err
	}
	f, err := os.Open(filepath.Join(arr.dir, id))
	if err != nil {
		return fault.Wrap(fault.Internal, "take in", "chunks", err)
	}
	defer f.Close() //nolint:errcheck // only read
	_, err = arr.vault.Take(ctx, f, size)
	return errors.Join(err, arr.drop(id))
}

// Owned refuses an upload that somebody else has begun: what is sent on, taken or dropped
// is one's own.
func (arr *Arrivals) Owned(id, by string) error {
	u, _, _, err := arr.uploadOf(id)
	if err == nil && u.MetaData["by"] != by {
		err = fault.New(fault.NotAllowed, "use arrival", id, "it is being sent by %s", u.MetaData["by"]).
			With("Send the file yourself; one that nobody goes on with goes by itself after three days.")
	}
	return err
}

// Drop forgets an upload that has not become a copy. It may be another's: it keeps room that others need.
func (arr *Arrivals) Drop(_ context.Context, id, by string) error {
	u, _, _, err := arr.uploadOf(id)
	if err != nil {
		return err
	}
	if sender := u.MetaData["by"]; sender != by {
		arr.log.Warn("an upload was removed by another than its sender", "upload", id, "name", u.MetaData["name"],
			"sender", sender, "by", by)
	}
	return arr.drop(id)
}

// plainName refuses a name that no person would give: with characters that are not seen, or
// that a terminal takes for commands.
func plainName(name string) error {
	if !utf8.ValidString(name) || strings.ContainsFunc(name, unicode.IsControl) {
		return fault.New(fault.Invalid, "receive", strconv.Quote(name),
			"its name holds characters that cannot be shown").
			With("Rename the file and send it again.")
	}
	return nil
}

func (arr *Arrivals) drop(id string) error {
	file := filepath.Join(arr.dir, id)
	err := errors.Join(os.Remove(file+".info"), os.Remove(file))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return fault.Wrap(fault.Internal, "remove arrival", id, err)
}

// Take recognises what has been uploaded and stores it. sum, which may be empty,
// is what the sender says its bytes hash to. An upload that is refused stays, so that a
// person can choose among its worlds without sending it again.
func (arr *Arrivals) Take(ctx context.Context, id, root, sum, by string) (wire.Arrival, error) {
	u, offset, _, err := arr.uploadOf(id)
	if fault.CodeOf(err) == fault.NotFound {
		if got, ok := arr.answers.Get(id); ok { // the answer was lost on its way, and is asked for again
			return got, nil
		}
	}
	if err == nil {
		err = arr.Owned(id, by)
	}
	if err != nil {
		return wire.Arrival{}, err
	}
	name := u.MetaData["name"]
	if u.MetaData["kind"] != "" {
		return wire.Arrival{}, fault.New(fault.Invalid, "take", id, "it is chunks and no archive")
	}
	if offset != u.Size {
		return wire.Arrival{}, fault.New(fault.WrongState, "take", name, "%d of %d bytes have come", offset, u.Size).
			With("Go on sending it: reshard send.")
	}
	if _, busy := arr.underWay.LoadOrStore(id, true); busy {
		return wire.Arrival{}, fault.New(fault.Busy, "take", name, "it is being taken in").
			With("Wait until that has ended.")
	}
	defer arr.underWay.Delete(id)
	file := filepath.Join(arr.dir, id)
	if err := verifySum(ctx, file, name, sum); err != nil {
		return wire.Arrival{}, err
	}
	archive, err := arr.openArrival(file, name)
	if err != nil {
		return wire.Arrival{}, err
	}
	defer archive.Close() //nolint:errcheck // only read
	arrival, err := arr.keep(ctx, library.Incoming{Name: name, Root: root, By: by}, archive, nil)
	if err != nil {
		return wire.Arrival{}, err
	}
	arr.answers.Add(id, arrival)
	return arrival, arr.drop(id)
}

// How long an answer is remembered, should it have been lost on its way, and how many.
const (
	askedAgain   = time.Hour
	mostAnswered = 10_000
)

// pieceSize is what a sender without a running hash hashes at a time, in bytes.
const pieceSize = 4 << 20

// verifySum compares a file with what its sender says: "blake3:" of all bytes, or
// "sha256-4m:", the SHA-256 over the SHA-256s of every 4 MiB, which a browser can do.
func verifySum(ctx context.Context, file, name, sum string) error {
	if sum == "" {
		return nil
	}
	way, want, _ := strings.Cut(sum, ":")
	f, err := os.Open(file)
	if err != nil {
		return fault.Wrap(fault.Internal, "verify", name, err)
	}
	defer f.Close() //nolint:errcheck // only read
	var h hash.Hash
	switch way {
	case "blake3":
		h = blake3.New()
		_, err = io.Copy(h, f)
	case "sha256-4m":
		h = sha256.New()
		var pieces [][sha256.Size]byte
		pieces, err = hashPieces(ctx, f)
		for _, p := range pieces {
			h.Write(p[:]) // a hash never fails to write
		}
	default:
		return fault.New(fault.Invalid, "verify", name, "%q is no way to hash; use blake3 or sha256-4m", way)
	}
	if err != nil {
		return fault.Wrap(fault.Internal, "verify", name, err)
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != want {
		return fault.New(fault.Interrupted, "verify", name,
			"what came is not what was sent: its hash is %s and should be %s", got, want).
			With("Remove this arrival and send the file again.")
	}
	return nil
}

func hashPieces(ctx context.Context, f *os.File) ([][sha256.Size]byte, error) {
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	out := make([][sha256.Size]byte, (info.Size()+pieceSize-1)/pieceSize)
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(2)
	for i := range out {
		group.Go(func() error {
			if err := context.Cause(gctx); err != nil {
				return err
			}
			h := sha256.New()
			_, err := io.Copy(h, io.NewSectionReader(f, int64(i)*pieceSize, pieceSize))
			out[i] = [sha256.Size]byte(h.Sum(nil))
			return err
		})
	}
	return out, group.Wait()
}

// Lacking gives those of some chunks that the vault does not have.
func (arr *Arrivals) Lacking(ctx context.Context, hashes []string) ([]string, error) {
	return arr.vault.Lacking(ctx, hashes)
}

// Assemble makes a world of files whose chunks are in the vault, as if they had come in
// an archive.
func (arr *Arrivals) Assemble(ctx context.Context, in wire.Assembly, by string) (wire.Arrival, error) {
	limits := arr.limits.Defaults()
	if in.Name == "" || len(in.Name) > 255 || len(in.Source) > 255 {
		return wire.Arrival{}, fault.New(fault.Invalid, "put together", "a world", "its name has 1 to 255 bytes")
	}
	slices.SortFunc(in.Files, func(a, b wire.AssembledFile) int { return strings.Compare(a.Path, b.Path) })
	c := vault.Copy{Reshard: vault.Format}
	seen := map[string]bool{}
	for _, f := range in.Files {
		file := vault.File{Path: f.Path, Modified: f.Modified.UTC().Truncate(time.Second)}
		for _, chunk := range f.Chunks {
			file.Chunks = append(file.Chunks, vault.Chunk(chunk))
		}
		clean := strings.TrimSuffix(f.Path, "/")
		if !fs.ValidPath(clean) || clean == "." || strings.ContainsAny(clean, "\\\x00") || len(clean) > limits.Name ||
			seen[clean] {
			return wire.Arrival{}, fault.New(fault.UnsafeArchive, "put together", in.Name,
				"the name %q is none of a file below a folder, or is there twice", f.Path)
		}
		seen[clean] = true
		for _, chunk := range f.Chunks {
			if chunk.Size < 0 || chunk.Size > vault.LongestChunk {
				return wire.Arrival{}, fault.New(fault.Invalid, "put together", in.Name,
					"a chunk of %q has the size %d", f.Path, chunk.Size)
			}
			file.Size += chunk.Size
		}
		c.Bytes += file.Size
		c.Files = append(c.Files, file)
	}
	if len(c.Files) > limits.Entries || c.Bytes > limits.Bytes {
		return wire.Arrival{}, fault.New(fault.TooLarge, "put together", in.Name,
			"%d files of %d bytes; %d of %d are the limit", len(c.Files), c.Bytes, limits.Entries, limits.Bytes)
	}
	arr.vault.Expect(ctx, c)
	tree := arr.vault.Tree(ctx, c, func(_, name string) string { return name })
	return arr.library.Keep(ctx, library.Incoming{Name: in.Name, Root: in.Root, By: by, Source: in.Source}, tree, nil,
		func(e world.Entry) []vault.Chunk {
			at, ok := slices.BinarySearchFunc(c.Files, e.Source,
				func(f vault.File, name string) int { return strings.Compare(f.Path, name) })
			if !ok {
				return nil
			}
			return c.Files[at].Chunks
		})
}

// old reports whether nobody has gone on with an upload for long enough. One of which that cannot be told stays.
func (arr *Arrivals) old(ctx context.Context, id string, last time.Time) bool {
	age, err := arr.age(ctx, "upload "+id, last)
	return err == nil && age > Kept
}

// Tidy removes uploads that nobody has gone on with.
func (arr *Arrivals) Tidy(ctx context.Context) {
	files, _ := filepath.Glob(filepath.Join(arr.dir, "*.info")) // the pattern is one
	for _, f := range files {
		id := strings.TrimSuffix(filepath.Base(f), ".info")
		if u, offset, last, err := arr.uploadOf(id); err == nil && arr.old(ctx, id, last) {
			arr.log.Info("an arrival that nobody went on with is removed", "name", u.MetaData["name"], "bytes", offset,
				"of", u.Size)
			if err := arr.drop(id); err != nil {
				arr.log.Warn("cannot remove an arrival", "error", err)
			}
		}
	}
}
