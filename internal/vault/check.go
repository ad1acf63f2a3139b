package vault

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"time"

	"reshard/internal/core/fault"
)

// Damage is an entry, or a whole pack, that does not read as it was stored.
type Damage struct {
	Pack string
	Name string // of the chunk or copy; absent: the whole pack
	Why  string
}

// Touched is a copy that damage touches.
type Touched struct {
	Copy  string
	Files []string // the first few; none: its list of files does not read
	Count int
}

// mostTold bounds the files that are named of one touched copy.
const mostTold = 10

// dropDamaged reads a pack back and takes what does not read out of the index, and says what that was.
func (v *Vault) dropDamaged(ctx context.Context, id string) (out []Damage, err error) {
	entries, err := v.index.Entries(ctx, id)
	if err != nil {
		return nil, err
	}
	var buf []byte
	var bad []Entry
	for _, e := range entries {
		if err := context.Cause(ctx); err != nil {
			return out, fault.Wrap(fault.Interrupted, "check", "the vault", err)
		}
		buf, err = v.readEntry(ctx, e, buf)
		if err == nil && e.Kind == CopyKind {
			_, err = parseManifest(e.Name.String(), buf)
		}
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return append(out, Damage{Pack: id, Why: "the pack is not there"}), v.index.Drop(ctx, entries)
		case fault.CodeOf(err) == fault.Damaged:
			out = append(out, Damage{Pack: id, Name: e.Name.String(), Why: whatOf(err)})
			bad = append(bad, e)
		case err != nil:
			return out, err // it may read another time
		}
	}
	for _, e := range bad {
		v.places.forget(e.Name)
	}
	return out, v.index.Drop(ctx, bad)
}

func whatOf(err error) string {
	var e *fault.Error
	if errors.As(err, &e) && e.What != "" {
		return e.What
	}
	return err.Error()
}

// touched tells whether a copy lacks something.
func (v *Vault) touched(ctx context.Context, id string) (*Touched, error) {
	c, _, err := v.load(ctx, id)
	if code := fault.CodeOf(err); code == fault.Damaged || code == fault.NotFound {
		return &Touched{Copy: id, Files: []string{}}, nil
	}
	if err != nil {
		return nil, err
	}
	lacking, err := v.lackingOf(ctx, c)
	if err != nil || len(lacking) == 0 {
		return nil, err
	}
	t := &Touched{Copy: id, Files: []string{}}
	for _, f := range c.Files {
		for _, chunk := range f.Chunks {
			if !lacking[chunk.Hash] {
				continue
			}
			if t.Count++; len(t.Files) < mostTold {
				t.Files = append(t.Files, path.Join(f.Part, f.Path))
			}
			break
		}
	}
	return t, nil
}

// Holds is nil when everything that a copy is made of is in the vault, as far as its index knows.
func (v *Vault) Holds(ctx context.Context, c Copy) error {
	lacking, err := v.lackingOf(ctx, c)
	if err == nil && len(lacking) > 0 {
		err = fault.New(fault.Damaged, "look into", c.ID, "%d of its chunks are not in the vault", len(lacking)).
			With("reshard vault check says which files that touches.")
	}
	return err
}

func (v *Vault) lackingOf(ctx context.Context, c Copy) (map[string]bool, error) {
	var all []string
	for _, f := range c.Files {
		for _, chunk := range f.Chunks {
			all = append(all, chunk.Hash)
		}
	}
	lacking, err := v.Lacking(ctx, all)
	out := map[string]bool{}
	for _, h := range lacking {
		out[h] = true
	}
	return out, err
}

// Lacking gives those of some chunks that the vault does not have.
func (v *Vault) Lacking(ctx context.Context, hashes []string) ([]string, error) {
	lacking := []string{}
	for len(hashes) > 0 {
		part := hashes[:min(len(hashes), 1000)]
		hashes = hashes[len(part):]
		var names []Name
		for _, h := range part {
			n, err := ParseName(h)
			if err != nil {
				return nil, err
			}
			if v.known.maybe(n) {
				names = append(names, n)
			}
		}
		found, err := v.index.Find(ctx, ChunkKind, names)
		if err != nil {
			return nil, v.fail("look into", err)
		}
		for _, h := range part {
			n, _ := ParseName(h) // has just been read
			if _, ok := found[n]; !ok {
				lacking = append(lacking, h)
			}
		}
	}
	return lacking, nil
}

// Rebuilt is what was found in the packs.
type Rebuilt struct {
	Packs   int
	Entries int
	Copies  []string // the copies whose lists of files are there
	Damaged []Damage // packs that do not say what they hold
}

// Rebuild makes the index anew from the packs alone.
func (v *Vault) Rebuild(ctx context.Context, see func(done, all int64)) (Rebuilt, error) {
	v.collecting.Lock()
	defer v.collecting.Unlock()
	out := Rebuilt{Copies: []string{}, Damaged: []Damage{}}
	if !v.storing.TryLock() {
		return out, fault.New(fault.Busy, "rebuild", "the vault", "something is being stored").
			With("Try again when it has ended.")
	}
	defer v.storing.Unlock()
	made := map[string]time.Time{}
	err := v.list(ctx, func(key string, _ int64, modified time.Time) {
		if id := path.Base(key); packPattern.MatchString(id) {
			made[id] = modified
		}
	})
	if err == nil {
		err = v.index.Clear(ctx)
	}
	if err != nil {
		return out, v.fail("rebuild", err)
	}
	for id, when := range made {
		if see != nil {
			see(int64(out.Packs), int64(len(made)))
		}
		out.Packs++
		pack, err := v.readPack(ctx, id)
		if err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) || len(pack.Entries) == 0 {
			out.Damaged = append(out.Damaged, Damage{Pack: id, Why: "it does not say what it holds"})
			continue
		}
		if err != nil {
			return out, v.fail("rebuild", err)
		}
		if err := v.index.Add(ctx, []Pack{pack}, when); err != nil {
			return out, v.fail("rebuild", err)
		}
		out.Entries += len(pack.Entries)
	}
	err = v.index.Names(ctx, CopyKind, func(n Name) { out.Copies = append(out.Copies, n.String()) })
	return out, v.fail("rebuild", errors.Join(err, v.learn(ctx)))
}
