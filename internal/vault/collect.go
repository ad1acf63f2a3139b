package vault

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"regexp"
	"time"

	"reshard/internal/core/fault"
)

// Collected is what a collection has freed.
type Collected struct {
	Entries   int
	Removed   int   // packs that held nothing that is needed
	Rewritten int   // packs of which the needed part was written anew
	Joined    int   // small packs that were written into a larger one
	Bytes     int64 // freed in the packs
	Strays    int   // packs unknown to the index: rebuild takes them in
}

// wasted is the share of a pack that must be unneeded for it to be rewritten.
const wasted = 0.25

func (v *Vault) trace(point string) {
	if v.Trace != nil {
		v.Trace(point)
	}
}

// Collect removes what no copy of keep needs and what is of packs made before then:
// a younger one may belong to a copy that is still arriving. A copy that was stored
// since then is kept whatever keep says, with all that it needs: who made keep may not
// have known of it, and what it needs may be old. It removes nothing unless every copy of
// keep reads. While something is being stored it fails with
// fault.Busy and has done nothing. After a crash in its midst nothing is lost, and
// the next one ends the work.
func (v *Vault) Collect(ctx context.Context, keep []string, before time.Time,
	see func(done, all int64)) (c Collected, err error) {
	v.collecting.Lock()
	defer v.collecting.Unlock()
	if c.Entries, err = v.forget(ctx, keep, before); err != nil {
		return c, v.fail("collect in", err)
	}
	v.trace("forgotten")
	packs, err := v.index.Packs(ctx)
	if err != nil {
		return c, v.fail("collect in", err)
	}
	var small []PackUse
	for i, p := range packs {
		if see != nil {
			see(int64(i), int64(len(packs)))
		}
		if err := context.Cause(ctx); err != nil {
			return c, fault.Wrap(fault.Interrupted, "collect in", "the vault", err)
		}
		freed := int64(0)
		switch {
		case p.Entries == 0:
			freed, err = p.Bytes, v.removePack(ctx, p.ID)
			c.Removed++
		case p.Made.Before(before) && float64(p.waste()) > wasted*float64(p.Bytes):
			freed, err = v.rewrite(ctx, []PackUse{p})
			c.Rewritten++
		case p.Bytes < packSize/8:
			small = append(small, p)
		}
		if err != nil {
			return c, v.fail("collect in", err)
		}
		c.Bytes += freed
	}
	if err := v.join(ctx, small, &c); err != nil {
		return c, v.fail("collect in", err)
	}
	return c, v.fail("collect in", v.removeStrays(ctx, keep, &c))
}

// fewSmall is how many small packs are left as they are.
const fewSmall = 8

// join writes small packs, of which every small world makes one or more, into larger
// ones.
func (v *Vault) join(ctx context.Context, small []PackUse, c *Collected) error {
	if len(small) <= fewSmall {
		return nil
	}
	for len(small) > 0 {
		n, bytes := 0, int64(0)
		for n < len(small) && bytes+small[n].Bytes <= packSize {
			bytes += small[n].Bytes
			n++
		}
		freed, err := v.rewrite(ctx, small[:n])
		if err != nil {
			return err
		}
		c.Joined += n
		c.Bytes += freed
		small = small[n:]
	}
	return nil
}

// forget takes out of the index what is not needed. Once that has happened no store
// can find it, and its bytes are free to go.
func (v *Vault) forget(ctx context.Context, keep []string, before time.Time) (entries int, err error) {
	if !v.storing.TryLock() {
		return 0, fault.New(fault.Busy, "collect in", "the vault", "something is being stored").
			With("Try again when it has ended.")
	}
	defer v.storing.Unlock()
	entries, _, err = v.index.Forget(ctx, func(need func(Kind, Name) error) error {
		for _, id := range append(v.storedSince(before), keep...) {
			if err := v.needs(ctx, id, need); err != nil {
				return err
			}
		}
		return nil
	}, before)
	return entries, err
}

// storedSince gives the copies that this life has stored since then. Earlier ones are
// forgotten: they are in keep by now, or nobody wants them.
func (v *Vault) storedSince(then time.Time) (ids []string) {
	v.fresh.Range(func(id, at any) bool {
		if at.(time.Time).Before(then) {
			v.fresh.Delete(id)
		} else {
			ids = append(ids, id.(string))
		}
		return true
	})
	return ids
}

// needs hands out everything that a copy is made of.
func (v *Vault) needs(ctx context.Context, id string, need func(Kind, Name) error) error {
	c, err := v.Load(ctx, id)
	if err != nil && ctx.Err() != nil {
		return err
	}
	if err != nil {
		return &fault.Error{
			Code: fault.Damaged,
			Op:   "collect in",
			Path: "the vault",
			What: "a copy does not read, so it cannot be told what it needs; nothing was removed",
			Err:  err,
		}
	}
	name, err := ParseName(id)
	if err != nil {
		return err
	}
	if err := need(CopyKind, name); err != nil {
		return err
	}
	for _, f := range c.Files {
		for _, chunk := range f.Chunks {
			if name, err = ParseName(chunk.Hash); err != nil {
				return err
			}
			if err := need(ChunkKind, name); err != nil {
				return err
			}
		}
	}
	return nil
}

// removePack removes a pack that nothing is needed of: its blob first, so that a crash
// leaves something that the next collection finds.
func (v *Vault) removePack(ctx context.Context, id string) error {
	if err := v.blobs.Delete(ctx, packKey(id)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	v.trace("deleted " + id)
	return v.index.Remove(ctx, id)
}

// rewrite writes what is needed of packs into new ones. Packs with damage stay: their
// bytes may be all that is left to mend it from.
func (v *Vault) rewrite(ctx context.Context, old []PackUse) (freed int64, err error) {
	p := v.newPacker()
	defer p.drop()
	var buf []byte
	var ids []string
	for _, pack := range old {
		entries, err := v.index.Entries(ctx, pack.ID)
		if err != nil {
			return 0, err
		}
		ids = append(ids, pack.ID)
		freed += pack.Bytes
		for _, e := range entries {
			coded, err := v.readRange(ctx, e.Pack, e.Start, e.Stored, buf)
			if err == nil {
				_, err = v.decode(e, coded, nil)
			}
			if errors.Is(err, fs.ErrNotExist) || errors.Is(err, io.ErrUnexpectedEOF) ||
				fault.CodeOf(err) == fault.Damaged {
				return 0, nil
			}
			if err != nil {
				return 0, err
			}
			if err := p.add(e.Kind, e.Name, e.Coding, e.Size, coded); err != nil {
				return 0, err
			}
			buf = coded
		}
	}
	packs, err := p.finish()
	if err != nil {
		return 0, err
	}
	if v.blobs.Sync != nil {
		if err := v.blobs.Sync(); err != nil {
			return 0, err
		}
	}
	v.trace("written anew")
	if err := v.index.Move(ctx, ids, packs); err != nil {
		return 0, err
	}
	v.trace("moved")
	for _, made := range packs {
		freed -= made.Bytes
	}
	for _, id := range ids {
		if err := v.removePack(ctx, id); err != nil {
			return freed, err
		}
	}
	return freed, nil
}

var packPattern = regexp.MustCompile(`^[0-9a-f]{32}$`)

// abandoned is how long a blob that is no pack, such as the beginning of one that a
// crash cut off, is left alone.
const abandoned = 24 * time.Hour

// removeStrays removes packs that the index does not name and nobody is writing: a
// store that failed, or a crash, has left them. Where one of them holds a copy that
// the index does not know, or a copy lacks something, it is the index that is wrong, and all of them stay.
func (v *Vault) removeStrays(ctx context.Context, keep []string, c *Collected) error {
	strays := map[string]int64{}
	err := v.list(ctx, func(key string, size int64, modified time.Time) {
		id := path.Base(key)
		_, open := v.writing.Load(id)
		if !open && (packPattern.MatchString(id) || v.now().Sub(modified) > abandoned) {
			strays[key] = size
		}
	})
	if err != nil {
		return err
	}
	packs, err := v.index.Packs(ctx)
	if err != nil {
		return err
	}
	for _, p := range packs {
		delete(strays, packKey(p.ID))
	}
	if len(strays) == 0 {
		return nil
	}
	needed, err := v.mayBeNeeded(ctx, keep, strays)
	if err != nil {
		return err
	}
	if needed {
		c.Strays = len(strays)
		return nil
	}
	for key, size := range strays {
		v.trace("stray " + key)
		if err := v.blobs.Delete(ctx, key); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		c.Bytes += size
	}
	return nil
}

func (v *Vault) mayBeNeeded(ctx context.Context, keep []string, strays map[string]int64) (bool, error) {
	for key := range strays {
		if !packPattern.MatchString(path.Base(key)) {
			continue
		}
		pack, err := v.readPack(ctx, path.Base(key))
		var unread *fs.PathError
		if errors.As(err, &unread) || context.Cause(ctx) != nil { // it may be whole, and hold anything
			return false, err
		}
		var copies []Name
		for _, e := range pack.Entries {
			if e.Kind == CopyKind {
				copies = append(copies, e.Name)
			}
		}
		known, err := v.index.Find(ctx, CopyKind, copies)
		if err != nil || len(known) < len(copies) {
			return err == nil, err
		}
	}
	for _, id := range keep {
		if t, err := v.touched(ctx, id); err != nil || t != nil {
			return t != nil, err
		}
	}
	return false, nil
}

// list hands out the blobs that stand where packs do. A pack that is being written has another name until it is whole.
func (v *Vault) list(ctx context.Context, see func(key string, size int64, modified time.Time)) error {
	for o, err := range v.blobs.List(ctx, "packs/") {
		if err != nil {
			return err
		}
		see(o.Key, o.Size, o.Modified)
	}
	return nil
}
