package archive

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// The library that reads 7z archives makes room for as many files and streams as an archive
// announces. So the header is walked before, by its description (7zFormat.txt of the LZMA
// SDK): no number in it may be larger than what its bytes can hold.

// Property ids of the format.
const (
	sevenEnd           = 0x00
	sevenHeader        = 0x01
	sevenProperties    = 0x02
	sevenMoreStreams   = 0x03
	sevenMainStreams   = 0x04
	sevenFiles         = 0x05
	sevenPackInfo      = 0x06
	sevenUnpackInfo    = 0x07
	sevenSubStreams    = 0x08
	sevenSize          = 0x09
	sevenCRC           = 0x0a
	sevenFolder        = 0x0b
	sevenUnpackSize    = 0x0c
	sevenUnpackStreams = 0x0d
	sevenEncoded       = 0x17
)

// Bounds of what is walked.
const (
	longestSevenHeader = 48 << 20 // in bytes; names are in UTF-16
	mostSevenCoders    = 32
)

var errLocked = errors.New("its list of files is behind a password")

var errSeven = errors.New("its list of files does not read: it is damaged, or cut short")

// checkSeven walks an archive's header. What it does not know it leaves to the library, once
// no number is left that could be a lie.
func checkSeven(f io.ReaderAt, size int64, most int) error {
	var start [32]byte
	if _, err := f.ReadAt(start[:], 0); err != nil {
		return errSeven
	}
	offset, length := binary.LittleEndian.Uint64(start[12:]), binary.LittleEndian.Uint64(start[20:])
	if length == 0 {
		return nil
	}
	if length > longestSevenHeader || offset > uint64(size) || 32+offset+length > uint64(size) {
		return errSeven
	}
	head := make([]byte, length)
	if _, err := f.ReadAt(head, 32+int64(offset)); err != nil { //nolint:gosec // bounded above
		return errSeven
	}
	for range 3 { // a packed header may be packed
		w := &sevenWalk{data: head, most: most}
		switch w.byte() {
		case sevenHeader:
			w.header()
			return w.err
		case sevenEncoded:
			w.streams()
			if w.err != nil {
				return w.err
			}
			var err error
			if head, err = w.unpack(f); err != nil {
				return err
			}
		default:
			return errSeven
		}
	}
	return errSeven
}

// sevenWalk reads a header; the first error ends it.
type sevenWalk struct {
	data []byte
	at   int
	most int // files
	err  error
	// Of the last streams that were walked: where they are packed, and how the first
	// folder is.
	packAt, packSize uint64
	method, settings []byte
	unpacked         uint64
	coders           int
	known            []bool // which folders have a checksum
	locked           bool   // something is behind a password
}

func (w *sevenWalk) fail() {
	if w.err == nil {
		w.err = errSeven
	}
}

func (w *sevenWalk) byte() byte {
	if w.err != nil || w.at >= len(w.data) {
		w.fail()
		return sevenEnd
	}
	w.at++
	return w.data[w.at-1]
}

func (w *sevenWalk) bytes(n uint64) []byte {
	if w.err != nil || n > uint64(len(w.data)-w.at) {
		w.fail()
		return nil
	}
	w.at += int(n) //nolint:gosec // bounded above
	return w.data[w.at-int(n) : w.at]
}

// number reads a number: the first byte's leading ones tell how many bytes follow.
func (w *sevenWalk) number() uint64 {
	first := w.byte()
	var n uint64
	mask := byte(0x80)
	for i := range 8 {
		if first&mask == 0 {
			return n | uint64(first&(mask-1))<<(8*i)
		}
		n |= uint64(w.byte()) << (8 * i)
		mask >>= 1
	}
	return n
}

// count reads a number of things, of which each takes at least some bits of the header.
func (w *sevenWalk) count(most int) int {
	n := w.number()
	if n > uint64(most) || n > 8*uint64(len(w.data)) {
		w.fail()
		return 0
	}
	return int(n) //nolint:gosec // bounded above
}

func (w *sevenWalk) header() {
	for {
		switch id := w.byte(); id {
		case sevenEnd:
			return
		case sevenMainStreams, sevenMoreStreams:
			w.streams()
		case sevenProperties:
			for w.byte() != sevenEnd {
				w.bytes(w.number())
			}
		case sevenFiles:
			if n := w.count(w.most + 1); 2*n > len(w.data) { // each has a name that ends
				w.fail()
			}
			for w.byte() != sevenEnd {
				w.bytes(w.number())
			}
		default:
			w.fail()
		}
		if w.err != nil {
			return
		}
	}
}

func (w *sevenWalk) streams() {
	folders := 1
	for w.err == nil {
		switch w.byte() {
		case sevenEnd:
			return
		case sevenPackInfo:
			w.packInfo()
		case sevenUnpackInfo:
			folders = w.unpackInfo()
		case sevenSubStreams:
			w.subStreams(folders)
		default:
			w.fail()
		}
	}
}

func (w *sevenWalk) packInfo() {
	w.packAt = w.number()
	n := w.count(w.most + 1)
	for w.err == nil {
		switch w.byte() {
		case sevenEnd:
			return
		case sevenSize:
			for i := range n {
				if size := w.number(); i == 0 {
					w.packSize = size
				}
			}
		case sevenCRC:
			w.digests(n)
		default:
			w.fail()
		}
	}
}

// digests walks checksums: which there are, then each.
func (w *sevenWalk) digests(n int) (known []bool) {
	all := w.byte() != 0
	var bits []byte
	if !all {
		bits = w.bytes(uint64(n+7) / 8)
	}
	if w.err != nil {
		return nil
	}
	known = make([]bool, n)
	defined := uint64(0)
	for i := range known {
		if known[i] = all || bits[i/8]&(0x80>>(i%8)) != 0; known[i] {
			defined++
		}
	}
	w.bytes(4 * defined)
	return known
}

func (w *sevenWalk) unpackInfo() (folders int) {
	if w.byte() != sevenFolder {
		w.fail()
	}
	folders = w.count(w.most + 1)
	if w.byte() != 0 { // the folders stand elsewhere: no packer does so
		w.fail()
	}
	outs := 0
	for i := 0; i < folders && w.err == nil; i++ {
		outs += w.folder(i == 0)
	}
	for w.err == nil {
		switch w.byte() {
		case sevenEnd:
			return folders
		case sevenUnpackSize:
			for i := range outs {
				if size := w.number(); i == 0 {
					w.unpacked = size
				}
			}
		case sevenCRC:
			w.known = w.digests(folders)
		default:
			w.fail()
		}
	}
	return folders
}

func (w *sevenWalk) folder(first bool) (outs int) {
	coders := w.count(mostSevenCoders)
	ins := 0
	for range coders {
		flags := w.byte()
		method := w.bytes(uint64(flags & 0x0f))
		w.locked = w.locked || bytes.HasPrefix(method, []byte{0x06, 0xf1, 0x07})
		in, out := 1, 1
		if flags&0x10 != 0 {
			in, out = w.count(mostSevenCoders), w.count(mostSevenCoders)
		}
		ins, outs = ins+in, outs+out
		var settings []byte
		if flags&0x20 != 0 {
			settings = w.bytes(w.number())
		}
		if first {
			w.method, w.settings, w.coders = method, settings, coders
		}
	}
	pairs := max(0, outs-1)
	for range pairs {
		w.number()
		w.number()
	}
	if packed := ins - pairs; packed > 1 {
		for range packed {
			w.number()
		}
	}
	return outs
}

func (w *sevenWalk) subStreams(folders int) {
	total, each := folders, make([]int, folders)
	for i := range each {
		each[i] = 1
	}
	for w.err == nil {
		switch id := w.byte(); id {
		case sevenEnd:
			return
		case sevenUnpackStreams:
			total = 0
			for i := range each {
				each[i] = w.count(w.most + 1)
				if total += each[i]; total > w.most+1 {
					w.fail()
					return
				}
			}
		case sevenSize:
			for _, n := range each {
				for range n - 1 {
					w.number()
				}
			}
		case sevenCRC:
			n := 0 // a folder of one stream whose checksum is known needs no other
			for i, streams := range each {
				if streams != 1 || i >= len(w.known) || !w.known[i] {
					n += streams
				}
			}
			w.digests(n)
		default:
			w.fail()
		}
	}
}

// unpack gives a packed header.
func (w *sevenWalk) unpack(f io.ReaderAt) ([]byte, error) {
	if w.locked {
		return nil, errLocked
	}
	if w.coders != 1 || w.unpacked > longestSevenHeader || w.packSize > longestSevenHeader {
		return nil, errSeven
	}
	in := io.NewSectionReader(f, 32+int64(w.packAt), int64(w.packSize)) //nolint:gosec // a wrong place ends early
	var out io.Reader = in
	var err error
	switch {
	case bytes.Equal(w.method, []byte{0x00}):
	case bytes.Equal(w.method, []byte{0x03, 0x01, 0x01}):
		out, err = openLZMA(w.settings, w.unpacked, in)
	case bytes.Equal(w.method, []byte{0x21}):
		out, err = openLZMA2(w.settings, w.unpacked, in)
	default:
		err = fmt.Errorf("its list of files is packed by the method %x, which is not read", w.method)
	}
	if err != nil {
		return nil, err
	}
	head := make([]byte, w.unpacked)
	if _, err := io.ReadFull(out, head); err != nil {
		return nil, errSeven
	}
	return head, nil
}
