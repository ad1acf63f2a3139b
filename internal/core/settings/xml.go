package settings

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"
)

// xmlFormat is XML 1.0. A key is a path of XPath's: "/server/world/name" is the
// text of an element, "/server/world/@name" an attribute. Of repeated elements
// with an attribute "name" or "key", each has a path of its own:
// "/server/setting[@name='world']/@value".
type xmlFormat struct{}

func (xmlFormat) scan(data []byte) ([]Entry, error) {
	s := &xmlScan{data: data, dec: xml.NewDecoder(bytes.NewReader(data))}
	// The bytes are UTF-8 by now, whatever the declaration says.
	s.dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	for {
		before := int(s.dec.InputOffset())
		tok, err := s.dec.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if err := s.token(tok, before, int(s.dec.InputOffset())); err != nil {
			return nil, fmt.Errorf("line %d: %w", s.lineAt(before), err)
		}
	}
	if len(s.open) > 0 {
		return nil, fmt.Errorf("the element %s is not closed", s.open[len(s.open)-1].name)
	}
	return s.entries.list, nil
}

type xmlScan struct {
	data    []byte
	dec     *xml.Decoder
	open    []*xmlElement
	entries entries
	// lines counts line breaks before counted.
	lines, counted int
}

type xmlElement struct {
	name, path string
	inner      int // where its content begins
	text       strings.Builder
	mixed      bool // holds elements or comments
	empty      bool // written as <name/>
}

func (s *xmlScan) lineAt(at int) int {
	if at < s.counted {
		return 1 + bytes.Count(s.data[:at], []byte("\n"))
	}
	s.lines += bytes.Count(s.data[s.counted:at], []byte("\n"))
	s.counted = at
	return 1 + s.lines
}

func xmlName(n xml.Name) string {
	if n.Space != "" {
		return n.Space + ":" + n.Local
	}
	return n.Local
}

func (s *xmlScan) token(tok xml.Token, before, after int) error {
	switch t := tok.(type) {
	case xml.StartElement:
		if len(s.open) >= deepest {
			return errDeep
		}
		parent := ""
		if n := len(s.open); n > 0 {
			s.open[n-1].mixed = true
			parent = s.open[n-1].path
		}
		e := &xmlElement{name: xmlName(t.Name), inner: after}
		e.path = parent + "/" + e.name
		for _, a := range t.Attr {
			if n := a.Name.Local; (n == "name" || n == "key") && a.Name.Space == "" && !strings.Contains(a.Value, "'") {
				e.path += "[@" + n + "='" + a.Value + "']"
				break
			}
		}
		// A self-closing tag comes as a start whose end has no bytes of its own.
		e.empty = bytes.HasSuffix(s.data[before:after], []byte("/>"))
		s.open = append(s.open, e)
		if s.entries.text += len(e.path); s.entries.text > mostText {
			return errText
		}
		return s.attributes(e.path, before, after, t.Attr)
	case xml.EndElement:
		if len(s.open) == 0 || s.open[len(s.open)-1].name != xmlName(t.Name) {
			return fmt.Errorf("</%s> closes nothing", xmlName(t.Name))
		}
		e := s.open[len(s.open)-1]
		s.open = s.open[:len(s.open)-1]
		if !e.mixed && !e.empty {
			return s.entries.add(s.textEntry(e, before))
		}
	case xml.CharData:
		if n := len(s.open); n > 0 {
			s.open[n-1].text.Write(t) // never fails
		}
	case xml.Comment, xml.ProcInst, xml.Directive:
		if n := len(s.open); n > 0 {
			s.open[n-1].mixed = true
		}
	}
	return nil
}

func (s *xmlScan) textEntry(e *xmlElement, end int) Entry {
	out := Entry{
		Key:   e.path,
		Value: strings.TrimSpace(e.text.String()),
		Line:  s.lineAt(e.inner),
		start: e.inner,
		end:   end,
	}
	raw := string(s.data[out.start:out.end])
	if strings.Contains(raw, "<![") {
		out.fixed = "its value is written as CDATA"
		return out
	}
	// The blanks around the text are no part of it.
	out.start += len(raw) - len(strings.TrimLeft(raw, " \t\r\n"))
	out.end = max(out.start, out.end-(len(raw)-len(strings.TrimRight(raw, " \t\r\n"))))
	return out
}

var xmlAttribute = regexp.MustCompile(`([^\s=<>"'/]+)\s*=\s*("[^"]*"|'[^']*')`)

func (s *xmlScan) attributes(path string, before, after int, attrs []xml.Attr) error {
	found := xmlAttribute.FindAllSubmatchIndex(s.data[before:after], -1)
	if len(found) != len(attrs) {
		return nil // an odd way to write them: they are not offered for editing
	}
	for i, a := range attrs {
		m := found[i]
		err := s.entries.add(Entry{
			Key: path + "/@" + xmlName(a.Name), Value: a.Value, Line: s.lineAt(before + m[0]),
			start: before + m[4] + 1, end: before + m[5] - 1,
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func (xmlFormat) encode(value, _ string) (string, error) {
	if !utf8.ValidString(value) || strings.ContainsFunc(value, func(r rune) bool {
		return r < ' ' && r != '\t' || r == 0xfffe || r == 0xffff
	}) {
		return "", fmt.Errorf("the value %q holds characters that XML cannot write", value)
	}
	if strings.TrimSpace(value) != value {
		return "", fmt.Errorf("the value %q begins or ends with a blank, which this format cannot keep", value)
	}
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;").Replace(value), nil
}

// add writes a new element as the last one of its parent, which must be there.
func (f xmlFormat) add(data []byte, key, value, ending string) ([]byte, error) {
	i := strings.LastIndexByte(key, '/')
	name := key[i+1:]
	if i < 1 || name == "" || strings.ContainsAny(name, "@[]'\" <>&=") {
		return nil, fmt.Errorf(
			"%q does not stand in the file, and only an element of a known parent can be added; add it by hand", key)
	}
	raw, err := f.encode(value, "")
	if err != nil {
		return nil, err
	}
	at, err := xmlParentEnd(data, key[:i])
	if err != nil {
		return nil, err
	}
	// Before the closing tag's own indent, one step deeper.
	start := bytes.LastIndexByte(data[:at], '\n') + 1
	indent := string(data[start:at])
	element := "<" + name + ">" + raw + "</" + name + ">"
	if strings.TrimSpace(indent) != "" || start == 0 {
		return bytes.Join([][]byte{data[:at], []byte(element), data[at:]}, nil), nil
	}
	return bytes.Join([][]byte{data[:start], []byte(indent + "  " + element + ending), data[start:]}, nil), nil
}

func xmlParentEnd(data []byte, parent string) (int, error) {
	s := &xmlScan{data: data, dec: xml.NewDecoder(bytes.NewReader(data))}
	s.dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	at := -1
	for {
		before := int(s.dec.InputOffset())
		tok, err := s.dec.RawToken()
		if err != nil {
			break
		}
		if _, end := tok.(xml.EndElement); end && len(s.open) > 0 && s.open[len(s.open)-1].path == parent &&
			!s.open[len(s.open)-1].empty {
			at = before
		}
		if err := s.token(tok, before, int(s.dec.InputOffset())); err != nil {
			return -1, err
		}
	}
	if at < 0 {
		return -1, fmt.Errorf("there is no element %s to add to; add it by hand", parent)
	}
	return at, nil
}
