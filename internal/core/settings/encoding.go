package settings

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// encodings are the text encodings a settings file may have. UTF-8 is kept as
// it is; the others are turned into UTF-8 to be read and back to be stored.
var encodings = map[string]encoding.Encoding{
	"utf-8":    nil,
	"utf-16le": unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM),
	"utf-16be": unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM),
	"latin-1":  charmap.ISO8859_1,
}

// Encodings lists the encodings that a profile may name.
func Encodings() []string { return []string{"latin-1", "utf-16be", "utf-16le", "utf-8"} }

// textForm is how a document's text is stored: its byte-order mark and encoding.
type textForm struct {
	mark     []byte
	encoding string
}

// marks are the byte-order marks (Unicode Standard, section 23.8).
var marks = []textForm{
	{[]byte("\xef\xbb\xbf"), "utf-8"},
	{[]byte("\xff\xfe"), "utf-16le"},
	{[]byte("\xfe\xff"), "utf-16be"},
}

// decodeText turns stored bytes into UTF-8. A mark beats what is declared, which
// beats a guess: bytes that are no UTF-8 are taken for Latin-1, in which every
// byte is a character. It is an error if encoding again would not give the same
// bytes, since then an edit could not keep them.
func decodeText(declared string, data []byte) (textForm, []byte, error) {
	form := textForm{encoding: declared}
	for _, m := range marks {
		if bytes.HasPrefix(data, m.mark) {
			form = m
			break
		}
	}
	rest := data[len(form.mark):]
	if form.encoding == "" {
		form.encoding = "utf-8"
		if !utf8.Valid(rest) {
			form.encoding = "latin-1"
		}
	}
	enc, known := encodings[form.encoding]
	if !known {
		return form, nil, fmt.Errorf("unknown encoding %q", form.encoding)
	}
	if enc == nil {
		return form, rest, nil
	}
	body, err := enc.NewDecoder().Bytes(rest)
	if err != nil {
		return form, nil, fmt.Errorf("is not %s: %w", form.encoding, err)
	}
	again, err := form.encode(body)
	if err != nil || !bytes.Equal(again, data) {
		return form, nil, fmt.Errorf("is not clean %s text: it could not be stored again byte by byte", form.encoding)
	}
	return form, body, nil
}

// encode turns UTF-8 into what is stored, mark included.
func (f textForm) encode(body []byte) ([]byte, error) {
	enc := encodings[f.encoding]
	if enc == nil {
		return slices.Concat(f.mark, body), nil
	}
	if !utf8.Valid(body) {
		return nil, errors.New("the value is not valid UTF-8")
	}
	out, err := enc.NewEncoder().Bytes(body)
	if err != nil {
		return nil, fmt.Errorf("the file is %s, which cannot hold every character of the value", f.encoding)
	}
	return slices.Concat(f.mark, out), nil
}
