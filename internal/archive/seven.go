package archive

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/bodgit/sevenzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz/lzma"
)

// The decoders of 7z take as much memory as an archive's few bytes ask for. Those that
// can ask for much are replaced by ones that look first. Method ids and properties are
// those of the format's description (7zFormat.txt and Methods.txt of the LZMA SDK, which
// is in the public domain).
func init() {
	sevenzip.RegisterDecompressor([]byte{0x03, 0x01, 0x01}, oneStream(openLZMA))
	sevenzip.RegisterDecompressor([]byte{0x21}, oneStream(openLZMA2))
	sevenzip.RegisterDecompressor([]byte{0x04, 0xf7, 0x11, 0x01}, oneStream(openZstd))
	sevenzip.RegisterDecompressor([]byte{0x03, 0x04, 0x01},
		oneStream(func([]byte, uint64, io.Reader) (io.Reader, error) {
			return nil, errors.New("it is packed by the method PPMd, which is not read: pack it with the method LZMA2")
		}))
}

// errLargeWindow is the error of an archive that asks for too much memory.
var errLargeWindow = fmt.Errorf("it needs a dictionary of more than %d MiB: pack it with a smaller one",
	largestWindow>>20)

// oneStream makes a decoder of a method that reads one stream.
func oneStream(open func(properties []byte, size uint64, in io.Reader) (io.Reader, error)) sevenzip.Decompressor {
	return func(properties []byte, size uint64, in []io.ReadCloser) (io.ReadCloser, error) {
		if len(in) != 1 {
			return nil, fmt.Errorf("a method of one stream is given %d", len(in))
		}
		r, err := open(properties, size, in[0])
		if err != nil {
			return nil, err
		}
		return decoded{r, in[0]}, nil
	}
}

// decoded is a decoded stream; closing it closes what it is read from too.
type decoded struct {
	io.Reader
	from io.Closer
}

func (d decoded) Close() (err error) {
	if c, ok := d.Reader.(io.Closer); ok {
		err = c.Close()
	}
	return errors.Join(err, d.from.Close())
}

func openLZMA(properties []byte, size uint64, in io.Reader) (io.Reader, error) {
	if len(properties) != 5 {
		return nil, errors.New("the properties of LZMA have not five bytes")
	}
	if binary.LittleEndian.Uint32(properties[1:]) > largestWindow {
		return nil, errLargeWindow
	}
	// Before the stream the decoder expects what a file of that method begins with.
	head := binary.LittleEndian.AppendUint64(bytes.Clone(properties), size)
	return lzma.NewReader(bufio.NewReader(io.MultiReader(bytes.NewReader(head), in)))
}

func openLZMA2(properties []byte, _ uint64, in io.Reader) (io.Reader, error) {
	if len(properties) != 1 || properties[0] > 40 {
		return nil, errors.New("the properties of LZMA2 are not one byte up to 40")
	}
	window := int64(2|properties[0]&1) << (properties[0]/2 + 11)
	if window > largestWindow {
		return nil, errLargeWindow
	}
	return lzma.Reader2Config{DictCap: int(window)}.NewReader2(in)
}

func openZstd(_ []byte, _ uint64, in io.Reader) (io.Reader, error) {
	r, err := zstd.NewReader(in, zstd.WithDecoderMaxWindow(largestWindow), zstd.WithDecoderConcurrency(1))
	if err != nil {
		return nil, err
	}
	return r.IOReadCloser(), nil
}
