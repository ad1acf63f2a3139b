package stores

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"syscall"

	"filippo.io/age"
	"github.com/zeebo/blake3"

	"reshard/internal/core/fault"
	"reshard/internal/records"
	"reshard/internal/vault"
)

// spooled is a pack that was read from a store, opened and in a file without a name: it is gone when it is closed,
// also when the service dies.
type spooled struct {
	*io.SectionReader
	file *os.File
}

func (p *spooled) Close() error { return p.file.Close() }

// largestSealed bounds what is read of a store for one pack: age adds 16 bytes to each 64 KiB, and a header.
const largestSealed = vault.LargestPack + vault.LargestPack/4096 + 4096

// noting keeps the first error of what it reads from, so that a line that ends is not taken for damage.
type noting struct {
	from io.Reader
	err  error
}

func (n *noting) Read(p []byte) (int, error) {
	k, err := n.from.Read(p)
	if err != nil && !errors.Is(err, io.EOF) && n.err == nil {
		n.err = err
	}
	return k, err
}

// bounded ends with an error once more was read than a pack can have.
type bounded struct {
	from io.Reader
	left int64
}

var errEndless = errors.New("it is larger than any pack")

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, errEndless
	}
	n, err := b.from.Read(p[:min(int64(len(p)), b.left)])
	b.left -= int64(n)
	return n, err
}

// fetch reads a pack from a store and opens it, and says how the store has it. It is not verified yet. Code Damaged:
// it is not what was sent there; NotFound: it is not there; Refused: none of the keys opens it, or the store does
// not give it.
func (st *Stores) fetch(ctx context.Context, s records.Store, p records.StorePack) (
	*spooled, records.StorePack, error) {
	b, err := st.enter(ctx, s)
	if err != nil {
		return nil, p, err
	}
	defer b.Close() //nolint:errcheck // only read
	ctx, done := context.WithTimeout(ctx, patience)
	defer done()
	r, err := b.Open(ctx, keyOf(p.Pack, s.Settings.V.Plain), 0, -1)
	if err != nil {
		return nil, p, b.wrap(reading, err)
	}
	defer r.Close() //nolint:errcheck // only read
	file, err := os.CreateTemp(st.with.Data, "pack-")
	if err != nil {
		return nil, p, fault.Wrap(fault.Internal, "read from", "store "+s.Name, err)
	}
	if err := os.Remove(file.Name()); err != nil { // a service that dies leaves nothing
		return nil, p, errors.Join(fault.Wrap(fault.Internal, "read from", "store "+s.Name, err), file.Close())
	}
	from, sum := &noting{from: r}, blake3.New()
	limit := &bounded{from, largestSealed}
	all := io.TeeReader(limit, sum)
	key, err := st.open(file, all, s.Settings.V.Plain)
	_, drained := io.Copy(io.Discard, all)
	switch {
	case from.err != nil:
		err = b.wrap(reading, from.err)
	case errors.Is(drained, errEndless):
		err = fault.New(fault.Damaged, "read from", "store "+s.Name, "%s: %v", p.Pack, errEndless)
	case len(p.Sum) > 0 && !bytes.Equal(sum.Sum(nil), p.Sum):
		err = fault.New(fault.Damaged, "read from", "store "+s.Name, "%s is not what was sent there", p.Pack)
	}
	info, statErr := file.Stat()
	err = errors.Join(err, statErr)
	if errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) {
		err = fault.New(fault.NoSpace, "read from", "store "+s.Name, "the disk of %s is full", st.with.Data)
	}
	if err != nil {
		return nil, p, errors.Join(err, file.Close())
	}
	p.StoreID, p.Bytes, p.Sum, p.Key = s.ID, largestSealed-limit.left, sum.Sum(nil), key
	if p.CheckedAt = st.now(); p.StoredAt.IsZero() {
		p.StoredAt = p.CheckedAt
	}
	return &spooled{io.NewSectionReader(file, 0, info.Size()), file}, p, nil
}

// open copies a pack as a store has it, and decrypts it where it is encrypted; it says for which key it is.
func (st *Stores) open(to io.Writer, from io.Reader, plain bool) (key string, err error) {
	if !plain {
		return st.keys.open(to, from)
	}
	_, err = io.Copy(to, from)
	return "", err
}

// hit is an identity that says when it was the one that opens.
type hit struct {
	*age.X25519Identity
	key *string
}

func (h hit) Unwrap(stanzas []*age.Stanza) ([]byte, error) {
	data, err := h.X25519Identity.Unwrap(stanzas)
	if err == nil {
		*h.key = h.Recipient().String()
	}
	return data, err
}
