package vault

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"github.com/klauspost/compress/zstd"
	"github.com/zeebo/blake3"

	"reshard/internal/core/fault"
)

// LargestPack bounds the blob of a pack, in bytes: what is larger is none of ours, but for lists of millions of files.
const LargestPack = 256 << 20

// mostEntries is how many entries a pack has at most: it ends with the first that takes it to packSize.
const mostEntries = packSize/headerSize + 1

// PackKey is the name of a pack's blob.
func PackKey(id string) string { return packKey(id) }

// IsPack reports whether a text is the id of a pack.
func IsPack(id string) bool { return packPattern.MatchString(id) }

// Packs lists the packs that the vault knows.
func (v *Vault) Packs(ctx context.Context) ([]PackUse, error) {
	packs, err := v.index.Packs(ctx)
	return packs, v.fail("list packs of", err)
}

// PackFile is the blob of a pack, open for reading.
type PackFile struct {
	*io.SectionReader
	io.Closer
}

// OpenPack opens the blob of a pack. It has code NotFound when it is not there.
func (v *Vault) OpenPack(ctx context.Context, id string) (PackFile, error) {
	r, err := v.blobs.Open(ctx, packKey(id), 0, -1)
	if errors.Is(err, fs.ErrNotExist) {
		return PackFile{}, fault.New(fault.NotFound, "read pack", id, "it is not there")
	}
	if err != nil {
		return PackFile{}, v.fail("read", err)
	}
	file, ok := r.(*os.File)
	if !ok {
		return PackFile{}, errors.Join(fmt.Errorf("the vault's pack %s is no file", id), r.Close())
	}
	info, err := file.Stat()
	if err != nil {
		return PackFile{}, errors.Join(v.fail("read", err), file.Close())
	}
	return PackFile{io.NewSectionReader(file, 0, info.Size()), file}, nil
}

// VerifyPack reads all entries of a pack, each against its name, and gives the pack. Code Damaged says that something
// in it is not what it was. It holds one chunk at a time, and the pack's directory.
func (v *Vault) VerifyPack(ctx context.Context, id string, data *io.SectionReader) (Pack, error) {
	pack, err := parsePack(id, data)
	if err != nil {
		return pack, fault.Wrap(fault.Damaged, "read pack", id, err)
	}
	var coded, buf []byte
	for _, e := range pack.Entries {
		if err := context.Cause(ctx); err != nil {
			return pack, fault.Wrap(fault.Interrupted, "read pack", id, err)
		}
		if e.Kind == CopyKind && max(e.Size, e.Stored) > LongestChunk {
			if err := verifyManifest(e, io.NewSectionReader(data, e.Start, e.Stored)); err != nil {
				return pack, err
			}
			continue
		}
		if max(e.Size, e.Stored) > LongestChunk {
			return pack, damaged(e.Name.String(), "it is larger than a chunk can be")
		}
		coded = append(coded[:0], make([]byte, e.Stored)...)
		if _, err := data.ReadAt(coded, e.Start); err != nil {
			return pack, v.fail("read", err)
		}
		if buf, err = v.decode(e, coded, buf); err == nil && e.Kind == CopyKind {
			_, err = parseManifest(e.Name.String(), buf)
		}
		if err != nil {
			return pack, err
		}
	}
	return pack, nil
}

// verifyManifest verifies a list of files that is not held in memory.
func verifyManifest(e Entry, coded io.Reader) error {
	if e.Coding == zstdCoding {
		d, err := zstd.NewReader(coded, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true),
			zstd.WithDecoderMaxWindow(8<<20))
		if err != nil {
			return fault.Wrap(fault.Internal, "read copy", e.Name.String(), err)
		}
		defer d.Close()
		coded = d
	}
	plain := &io.LimitedReader{R: coded, N: e.Size}
	dec := json.NewDecoder(plain)
	dec.DisallowUnknownFields()
	c, files, err := Copy{}, newIdentifier(), error(nil)
	for err == nil {
		var t json.Token
		switch t, err = dec.Token(); t {
		case "reshard":
			err = dec.Decode(&c.Reshard)
		case "id":
			err = dec.Decode(&c.ID)
		case "bytes":
			err = dec.Decode(&c.Bytes)
		case "files":
			if _, err = dec.Token(); err != nil {
				break
			}
			for dec.More() && err == nil {
				var f File
				if err = dec.Decode(&f); err == nil {
					files.add(f)
				}
			}
			if err == nil {
				_, err = dec.Token()
			}
		case json.Delim('{'), json.Delim('}'), nil:
		default:
			err = fmt.Errorf("unknown field %v", t)
		}
	}
	if !errors.Is(err, io.EOF) || plain.N != 0 || c.Reshard != Format || c.ID != e.Name.String() ||
		files.sum() != c.ID {
		return fault.New(fault.Damaged, "load copy", e.Name.String(), "its manifest does not match its id")
	}
	return nil
}

// parsePack reads a pack's directory out of its bytes.
func parsePack(id string, data *io.SectionReader) (Pack, error) {
	pack := Pack{ID: id, Bytes: data.Size()}
	least := int64(len(packMagic) + endSize)
	if pack.Bytes < least {
		return pack, errors.New("it is too short for a pack")
	}
	head, end := make([]byte, len(packMagic)), make([]byte, endSize)
	if _, err := data.ReadAt(head, 0); err != nil {
		return pack, err
	}
	if _, err := data.ReadAt(end, pack.Bytes-endSize64); err != nil {
		return pack, err
	}
	if string(head) != packMagic || string(end[36:]) != packMagic {
		return pack, errors.New("it does not begin and end as a pack does")
	}
	count := int64(binary.LittleEndian.Uint32(end[32:]))
	if count > mostEntries || count*headerSize > pack.Bytes-least {
		return pack, errors.New("its end makes no sense")
	}
	directory := make([]byte, count*headerSize)
	if _, err := data.ReadAt(directory, pack.Bytes-endSize64-count*headerSize); err != nil {
		return pack, err
	}
	if blake3.Sum256(directory) != [32]byte(end[:32]) {
		return pack, errors.New("its directory is damaged")
	}
	at, limit := int64(len(packMagic)), pack.Bytes-endSize64-count*headerSize
	pack.Entries = make([]Entry, 0, count)
	for ; len(directory) > 0; directory = directory[headerSize:] {
		e, err := parseHeader(directory)
		if err != nil {
			return pack, err
		}
		e.Pack, e.Start = id, at+headerSize
		if at = e.Start + e.Stored; at > limit {
			return pack, errors.New("an entry ends behind the pack")
		}
		pack.Entries = append(pack.Entries, e)
	}
	return pack, nil
}

const endSize64 = int64(endSize)

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
func (v *Vault) Mend(ctx context.Context, id string, data *io.SectionReader) error {
	pack, err := v.VerifyPack(ctx, id, data)
	if err != nil {
		return err
	}
	v.collecting.Lock()
	defer v.collecting.Unlock()
	if err := v.writePack(ctx, id, data); err != nil {
		return v.fail("mend", err)
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

func (v *Vault) writePack(ctx context.Context, id string, data *io.SectionReader) error {
	w, err := v.blobs.Create(ctx, packKey(id))
	if err != nil {
		return err
	}
	defer w.Abort()
	if _, err := io.Copy(w, io.NewSectionReader(data, 0, data.Size())); err != nil {
		return err
	}
	if err := w.Close(); err != nil || v.blobs.Sync == nil {
		return err
	}
	return v.blobs.Sync()
}

// DropDamaged takes what of a pack does not read out of the index, so that it is not offered to later
// stores, and says what that was.
func (v *Vault) DropDamaged(ctx context.Context, id string) ([]Damage, error) {
	v.collecting.Lock()
	defer v.collecting.Unlock()
	out, err := v.dropDamaged(ctx, id)
	return out, v.fail("check", err)
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

// Storing reports whether something is being stored.
func (v *Vault) Storing() bool { return v.beingStored.Load() > 0 }
