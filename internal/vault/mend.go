package vault

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"

	"github.com/zeebo/blake3"

	"reshard/internal/core/fault"
)

// LargestPack bounds the blob of a pack, in bytes: what is larger is none of ours, but for lists of millions of files.
const LargestPack = 256 << 20

// PackKey is the name of a pack's blob.
func PackKey(id string) string { return packKey(id) }

// IsPack reports whether a text is the id of a pack.
func IsPack(id string) bool { return packPattern.MatchString(id) }

// Packs lists the packs that the vault knows.
func (v *Vault) Packs(ctx context.Context) ([]PackUse, error) {
	packs, err := v.index.Packs(ctx)
	return packs, v.fail("list packs of", err)
}

// ReadPack reads the blob of a pack whole. It has code NotFound when it is not there.
func (v *Vault) ReadPack(ctx context.Context, id string) ([]byte, error) {
	data, err := v.blobs.ReadAll(ctx, packKey(id), LargestPack)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.NotFound, "read pack", id, "it is not there")
	}
	return data, v.fail("read", err)
}

// VerifyPack reads all entries of a pack out of its bytes, each against its name, and gives the pack. Code
// Damaged says that something in it is not what it was.
func (v *Vault) VerifyPack(id string, data []byte) (Pack, error) {
	pack, err := parsePack(id, data)
	if err != nil {
		return pack, fault.Wrap(fault.Damaged, "read pack", id, err)
	}
	var buf []byte
	for _, e := range pack.Entries {
		coded := data[e.Start : e.Start+e.Stored]
		if buf, err = v.decode(e, coded, buf); err == nil && e.Kind == CopyKind {
			_, err = parseManifest(e.Name.String(), buf)
		}
		if err != nil {
			return pack, err
		}
	}
	return pack, nil
}

// parsePack reads a pack's directory out of its bytes.
func parsePack(id string, data []byte) (Pack, error) {
	pack := Pack{ID: id, Bytes: int64(len(data))}
	least := len(packMagic) + endSize
	if len(data) < least || !bytes.HasPrefix(data, []byte(packMagic)) || !bytes.HasSuffix(data, []byte(packMagic)) {
		return pack, fmt.Errorf("it does not begin and end as a pack does")
	}
	end := data[len(data)-endSize:]
	size := int64(binary.LittleEndian.Uint32(end[32:])) * headerSize
	if size > int64(len(data)-least) {
		return pack, fmt.Errorf("its end makes no sense")
	}
	directory := data[int64(len(data)-endSize)-size : len(data)-endSize]
	if blake3.Sum256(directory) != [32]byte(end[:32]) {
		return pack, fmt.Errorf("its directory is damaged")
	}
	at := int64(len(packMagic))
	for ; len(directory) > 0; directory = directory[headerSize:] {
		e, err := parseHeader(directory)
		if err != nil {
			return pack, err
		}
		e.Pack, e.Start = id, at+headerSize
		if at = e.Start + e.Stored; at > int64(len(data)) {
			return pack, fmt.Errorf("an entry ends behind the pack")
		}
		pack.Entries = append(pack.Entries, e)
	}
	return pack, nil
}

// CheckPack reads back all that the vault knows of a pack, and says what of it does not read; nothing is
// changed. Code Damaged: so it is.
func (v *Vault) CheckPack(ctx context.Context, id string) (bytes int64, err error) {
	entries, err := v.index.Entries(ctx, id)
	if err != nil {
		return 0, v.fail("check", err)
	}
	var buf []byte
	for _, e := range entries {
		if err := context.Cause(ctx); err != nil {
			return bytes, fault.Wrap(fault.Interrupted, "check", "the vault", err)
		}
		buf, err = v.readEntry(ctx, e, buf)
		if err == nil && e.Kind == CopyKind {
			_, err = parseManifest(e.Name.String(), buf)
		}
		if errors.Is(err, fs.ErrNotExist) {
			return bytes, fault.New(fault.Damaged, "read pack", id, "it is not there")
		}
		if err != nil {
			return bytes, err
		}
		bytes += headerSize + e.Stored
	}
	return bytes, nil
}

// Mend puts a whole pack, as another store has it, in the place of one that is damaged or gone, and makes all
// of its entries known again. One that is not whole itself is refused with code Damaged.
func (v *Vault) Mend(ctx context.Context, id string, data []byte) error {
	pack, err := v.VerifyPack(id, data)
	if err != nil {
		return err
	}
	v.collecting.Lock()
	defer v.collecting.Unlock()
	if err := v.blobs.WriteAll(ctx, packKey(id), data); err != nil {
		return v.fail("mend", err)
	}
	if v.blobs.Sync != nil {
		if err := v.blobs.Sync(); err != nil {
			return v.fail("mend", err)
		}
	}
	if err := v.index.Add(ctx, []Pack{pack}, v.now()); err != nil {
		return v.fail("mend", err)
	}
	for _, e := range pack.Entries {
		v.places.forget(e.Name)
		if e.Kind == ChunkKind {
			v.known.add(e.Name)
		}
	}
	return nil
}

// DropDamaged takes what of a pack does not read out of the index, so that it is not offered to later
// stores, and says what that was.
func (v *Vault) DropDamaged(ctx context.Context, id string) ([]Damage, error) {
	v.collecting.Lock()
	defer v.collecting.Unlock()
	out := Checked{}
	err := v.checkPack(ctx, id, &out, func() {})
	return out.Damaged, v.fail("check", err)
}

// Touched tells which of some copies need something that the vault does not have.
func (v *Vault) Touched(ctx context.Context, ids []string) (out []Touched, err error) {
	for _, id := range ids {
		t, err := v.touched(ctx, id)
		if err != nil {
			return out, v.fail("check", err)
		}
		if t != nil {
			out = append(out, *t)
		}
	}
	return out, nil
}
