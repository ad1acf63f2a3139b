package sshlink

import (
	"encoding/binary"
	"io"
	"sync"

	"reshard/internal/line"
)

// Packets of SFTP (draft-ietf-secsh-filexfer-02) that tell which listing an answer belongs to.
const (
	packetClose   = 4
	packetReadDir = 12
	packetName    = 104
)

// listings limits what the host may send for the listing of one folder: the client of Files has no limit of its own. It
// reads the requests and the answers as they pass.
type listings struct {
	mu sync.Mutex // held for moments only
	// of are the folders' handles, by the numbers of requests that are not answered; bytes and names what came for
	// each.
	of           map[uint32]string
	bytes, names map[string]int
}

// requests returns a writer that sees the requests as they pass.
func (l *listings) requests(to io.WriteCloser) io.WriteCloser {
	return &heardWriter{WriteCloser: to, heard: frames{see: l.asked}}
}

// answers returns a reader that sees the answers as they pass. It fails at a listing over the limit, after calling end
// with the error.
func (l *listings) answers(from io.Reader, end func(error)) io.Reader {
	return &heardReader{Reader: from, heard: frames{see: l.answered}, end: end}
}

// asked notes which folder a request lists, and forgets one that is closed.
func (l *listings) asked(kind byte, head []byte, _ int) error {
	if kind != packetReadDir && kind != packetClose || len(head) < 8 {
		return nil
	}
	id, n := binary.BigEndian.Uint32(head), int64(binary.BigEndian.Uint32(head[4:]))
	// A hostile host may give longer handles than the protocol allows: those that begin alike count together.
	handle := string(head[8:min(8+n, int64(len(head)))])
	l.mu.Lock()
	defer l.mu.Unlock()
	if kind == packetReadDir {
		l.of[id] = handle
	} else {
		delete(l.bytes, handle)
		delete(l.names, handle)
	}
	return nil
}

func (l *listings) answered(kind byte, head []byte, size int) error {
	if len(head) < 8 {
		return nil
	}
	id := binary.BigEndian.Uint32(head)
	l.mu.Lock()
	defer l.mu.Unlock()
	handle, listed := l.of[id]
	delete(l.of, id)
	if !listed || kind != packetName {
		return nil
	}
	l.bytes[handle] += size
	l.names[handle] += int(binary.BigEndian.Uint32(head[4:]))
	switch {
	case l.bytes[handle] > line.LongestListing:
		return line.Exceeds("a listing of more than %d MB", line.LongestListing>>20)
	case l.names[handle] > line.MostNames:
		return line.Exceeds("a listing of more than %d names", line.MostNames)
	}
	return nil
}

func newListings() *listings {
	return &listings{of: map[uint32]string{}, bytes: map[string]int{}, names: map[string]int{}}
}

// longestHead is how much of a packet is looked at: a number, a length and a handle.
const longestHead = 4 + 4 + 256

// frames finds the packets in a stream: a length, a kind, the rest.
type frames struct {
	see func(kind byte, head []byte, size int) error
	// lead is the length and the kind of the packet at hand, as far as they have come; head what follows, as far as it
	// is looked at; left what of the packet is to come.
	lead []byte
	head []byte
	left int
	size int
}

func (f *frames) take(p []byte) error {
	for len(p) > 0 {
		if len(f.lead) < 5 {
			n := min(len(p), 5-len(f.lead))
			f.lead, p = append(f.lead, p[:n]...), p[n:]
			if len(f.lead) < 5 {
				return nil
			}
			f.size = int(binary.BigEndian.Uint32(f.lead)) - 1
			f.left, f.head = max(0, f.size), f.head[:0]
		}
		n := min(len(p), f.left)
		f.head = append(f.head, p[:min(n, longestHead-len(f.head))]...)
		f.left, p = f.left-n, p[n:]
		if f.left > 0 {
			return nil
		}
		err := f.see(f.lead[4], f.head, f.size)
		if f.lead = f.lead[:0]; err != nil {
			return err
		}
	}
	return nil
}

type heardWriter struct {
	io.WriteCloser
	heard frames
}

// Write implements io.Writer. The client writes one request at a time.
func (w *heardWriter) Write(p []byte) (int, error) {
	if err := w.heard.take(p); err != nil {
		return 0, err
	}
	return w.WriteCloser.Write(p)
}

type heardReader struct {
	io.Reader
	heard frames
	end   func(error)
	over  error
}

// Read implements io.Reader.
func (r *heardReader) Read(p []byte) (int, error) {
	if r.over != nil {
		return 0, r.over
	}
	n, err := r.Reader.Read(p)
	if r.over = r.heard.take(p[:n]); r.over != nil {
		r.end(r.over)
		return 0, r.over
	}
	return n, err
}
