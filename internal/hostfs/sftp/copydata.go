package sftp

import (
	"bufio"
	"context"
	"encoding/binary"
	"io"
	"path"

	"github.com/pkg/sftp"

	"reshard/internal/core/fault"
	"reshard/internal/hostfs"
)

// copyData is the extension by which a host copies between two open files (draft-ietf-secsh-
// filexfer-extensions-00, section 7; OpenSSH announces it without a suffix).
const copyData = "copy-data"

// copiedPiece is how much is copied by one request, in bytes: each is answered, and shows that
// the host goes on.
const copiedPiece = 64 << 20

// CopyThere implements hostfs.Copier.
func (f *Files) CopyThere(ctx context.Context, files []hostfs.Copying, copied func(i int, whole bool)) error {
	announced, err := ask(ctx, f, true, func(c *sftp.Client) (bool, error) {
		for _, file := range files {
			if err := f.within(c, path.Dir(file.From)); err != nil {
				return false, err
			}
			if err := f.within(c, path.Dir(file.To)); err != nil {
				return false, err
			}
		}
		_, ok := c.HasExtension(copyData)
		return ok, nil
	})
	switch {
	case err != nil:
		return err
	case announced:
		return f.copyByData(ctx, files, copied)
	case f.found.Commands:
		return f.copyByCommand(ctx, files, copied)
	}
	return &fault.Error{Code: fault.Unsupported, What: "the host has no way to copy a file"}
}

// copyByData copies over a session of its own: the library has no way to send a request that it
// does not know.
func (f *Files) copyByData(ctx context.Context, files []hostfs.Copying, copied func(i int, whole bool)) error {
	s, err := f.link.Subsystem(ctx, "sftp")
	if err != nil {
		return err
	}
	defer s.Close()
	defer context.AfterFunc(ctx, s.Close)()
	w := &requests{to: s.In, from: bufio.NewReader(s.Out)}
	if err := w.begin(); err != nil {
		return f.stopped(ctx, err)
	}
	atOnce := max(1, f.found.AtOnce/2) // two are open for each
	for at := 0; at < len(files); at += atOnce {
		part := files[at:min(at+atOnce, len(files))]
		sizes, err := f.regular(ctx, part)
		if err == nil {
			err = w.copy(f, part, sizes, func(i int, whole bool) { copied(at+i, whole) })
		}
		if err != nil {
			return f.stopped(ctx, err)
		}
	}
	return nil
}

// stopped is why copying ended early.
func (f *Files) stopped(ctx context.Context, err error) error {
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case fault.Ended(err) != "":
		return err
	}
	return f.link.Lost(err)
}

// regular gives the sizes of files, -1 for those that are none: what is no file would keep the
// host waiting once it is opened.
func (f *Files) regular(ctx context.Context, files []hostfs.Copying) ([]int64, error) {
	sizes := make([]int64, len(files))
	return sizes, eachAtOnce(indexes(len(files)), func(i int) error {
		info, err := f.Stat(ctx, files[i].From)
		switch code := fault.Ended(err); {
		case err == nil && info.Modes.IsRegular():
			sizes[i] = info.Bytes
		case err != nil && (fault.Passing(err) || code == fault.Interrupted):
			return err
		default:
			sizes[i] = -1
		}
		return nil
	})
}

// Packets of the protocol, version 3 (draft-ietf-secsh-filexfer-02).
const (
	packetInit     = 1
	packetVersion  = 2
	packetOpen     = 3
	packetClose    = 4
	packetFSetStat = 10
	packetStatus   = 101
	packetHandle   = 102
	packetExtended = 200

	toRead, toWrite = 0x1, 0x2 | 0x8 | 0x10 // write, make, empty it
	hasOwner        = 0x2
	hasMode         = 0x4
	hasTimes        = 0x8

	longestPacket = 64 << 10
)

// requests sends requests and reads their answers, many at a time. It is used by one goroutine.
type requests struct {
	to   io.Writer
	from *bufio.Reader
}

// packet is a request that is being put together.
type packet []byte

func newPacket(kind byte, id uint32) packet {
	return binary.BigEndian.AppendUint32(append(packet{0, 0, 0, 0}, kind), id)
}

func (p packet) text(s string) packet {
	return append(binary.BigEndian.AppendUint32(p, uint32(len(s))), s...)
}
func (p packet) number(n uint32) packet { return binary.BigEndian.AppendUint32(p, n) }
func (p packet) long(n int64) packet    { return binary.BigEndian.AppendUint64(p, uint64(n)) }
func (p packet) done() []byte {
	binary.BigEndian.PutUint32(p, uint32(len(p)-4))
	return p
}

// answered is the answer to a request.
type answered struct {
	id     uint32
	kind   byte
	handle string
	ok     bool // a handle, or a status that says so
}

func (w *requests) begin() error {
	if _, err := w.to.Write(newPacket(packetInit, 3).done()); err != nil {
		return err
	}
	kind, _, err := w.read()
	if err == nil && kind != packetVersion {
		err = fault.New(fault.Unsupported, "", "", "the host does not speak version 3 of SFTP")
	}
	return err
}

func (w *requests) read() (kind byte, rest []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(w.from, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[:])
	if n < 1 || n > longestPacket {
		return 0, nil, fault.New(fault.Unreachable, "", "", "the host's answer is none that the protocol has")
	}
	rest = make([]byte, n-1)
	_, err = io.ReadFull(w.from, rest)
	return head[4], rest, err
}

func (w *requests) answer() (a answered, err error) {
	kind, rest, err := w.read()
	if err != nil {
		return a, err
	}
	if a.kind = kind; len(rest) >= 8 {
		a.id = binary.BigEndian.Uint32(rest)
		n := binary.BigEndian.Uint32(rest[4:])
		switch {
		case kind == packetStatus:
			a.ok = n == 0
			return a, nil
		case kind == packetHandle && int(n) <= len(rest)-8:
			a.handle, a.ok = string(rest[8:8+n]), true
			return a, nil
		}
	}
	return a, fault.New(fault.Unreachable, "", "", "the host's answer is none that the protocol has")
}

// exchange sends packets and has each of n answers seen.
func (w *requests) exchange(packets []byte, n int, see func(answered)) error {
	sent := make(chan error, 1)
	go func() {
		_, err := w.to.Write(packets)
		sent <- err
	}()
	for range n {
		a, err := w.answer()
		if err != nil {
			return err
		}
		see(a)
	}
	return <-sent
}

// copy copies files of which the sizes are known, -1 leaves one out.
func (w *requests) copy(f *Files, files []hostfs.Copying, sizes []int64, copied func(i int, whole bool)) error {
	var out []byte
	for i, c := range files {
		from, to := newPacket(packetOpen, uint32(2*i)), newPacket(packetOpen, uint32(2*i+1))
		if sizes[i] < 0 {
			continue
		}
		out = append(out, from.text(f.at(c.From)).number(toRead).number(0).done()...)
		out = append(out, to.text(f.at(c.To)).number(toWrite).number(0).done()...)
	}
	handles := make([]string, 2*len(files))
	opened := 0
	for _, size := range sizes {
		if size >= 0 {
			opened += 2
		}
	}
	err := w.exchange(out, opened, func(a answered) {
		if a.kind == packetHandle && int(a.id) < len(handles) {
			handles[a.id] = a.handle
		}
	})
	if err != nil {
		return err
	}
	return w.between(files, sizes, handles, copied)
}

// between copies between open files, sets what the copies are to have, and closes all.
func (w *requests) between(files []hostfs.Copying, sizes []int64, handles []string,
	copied func(i int, whole bool),
) error {
	var out []byte
	answers := 0
	failed, left := make([]bool, len(files)), make([]int, len(files))
	ask := func(p packet) {
		out = append(out, p.done()...)
		answers++
	}
	const closing = 1 << 31 // answers to a close say nothing of a file
	for i, c := range files {
		from, to := handles[2*i], handles[2*i+1]
		if from != "" && to != "" {
			for at := int64(0); at < sizes[i]; at += copiedPiece {
				ask(newPacket(packetExtended, uint32(i)).text(copyData).
					text(from).long(at).long(min(copiedPiece, sizes[i]-at)).text(to).long(at))
				left[i]++
			}
			ask(attributed(newPacket(packetFSetStat, uint32(i)).text(to), c.Attributes))
			left[i]++
		}
		for _, h := range []string{from, to} {
			if h != "" {
				ask(newPacket(packetClose, closing).text(h))
			}
		}
	}
	return w.exchange(out, answers, func(a answered) {
		i := int(a.id)
		if a.id == closing || i >= len(files) {
			return
		}
		failed[i] = failed[i] || !a.ok
		left[i]--
		if !failed[i] {
			copied(i, left[i] == 0)
		}
	})
}

// attributed adds attributes to a packet, in the order of their flags.
func attributed(p packet, a hostfs.Attributes) packet {
	flags := uint32(0)
	uid, gid, err := numbers(a.Account)
	if a.Account != "" && err == nil {
		flags |= hasOwner
	}
	if a.Mode != 0 {
		flags |= hasMode
	}
	if !a.Modified.IsZero() {
		flags |= hasTimes
	}
	p = p.number(flags)
	if flags&hasOwner != 0 {
		p = p.number(uint32(uid)).number(uint32(gid))
	}
	if flags&hasMode != 0 {
		p = p.number(uint32(a.Mode.Perm()))
	}
	if flags&hasTimes != 0 {
		p = p.number(uint32(a.Modified.Unix())).number(uint32(a.Modified.Unix()))
	}
	return p
}
