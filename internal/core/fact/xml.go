package fact

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
)

// element is one XML element. A pointer goes into it as an XPath would: a name
// means the children of that name, "*" every child, "@name" an attribute, and
// "name[@key='x']" the children that have the attribute. Its own value is its
// text.
type element struct {
	name     string
	attrs    map[string]string
	text     string
	children []*element
}

// mostElements bounds a document.
const mostElements = 1 << 20

func decodeXML(data []byte) (any, error) {
	dec := xml.NewDecoder(bytes.NewReader(data))
	dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	top := &element{}
	open := []*element{top}
	for n := 0; ; n++ {
		if n > mostElements {
			return nil, errors.New("holds more than can be read")
		}
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return top, nil
		}
		if err != nil {
			return nil, err
		}
		at := open[len(open)-1]
		switch t := tok.(type) {
		case xml.StartElement:
			if len(open) > deepest {
				return nil, fmt.Errorf("nested deeper than %d", deepest)
			}
			child := &element{name: t.Name.Local, attrs: map[string]string{}}
			for _, a := range t.Attr {
				child.attrs[a.Name.Local] = a.Value
			}
			at.children = append(at.children, child)
			open = append(open, child)
		case xml.EndElement:
			at.text = strings.TrimSpace(at.text)
			open = open[:len(open)-1]
		case xml.CharData:
			at.text += string(t)
		}
	}
}

var condition = regexp.MustCompile(`^([^\[\]@]+)\[@([^=\]]+)='([^']*)'\]$`)

func (e *element) descend(step string) ([]any, error) {
	if name, ok := strings.CutPrefix(step, "@"); ok {
		if v, there := e.attrs[name]; there {
			return []any{v}, nil
		}
		return nil, fmt.Errorf("there is no attribute %q", name)
	}
	name, key, want := step, "", ""
	if m := condition.FindStringSubmatch(step); m != nil {
		name, key, want = m[1], m[2], m[3]
	}
	out := []any{}
	for _, c := range e.children {
		if (name == "*" || c.name == name) && (key == "" || c.attrs[key] == want) {
			out = append(out, c)
		}
	}
	if len(out) == 0 && step != "*" {
		return nil, fmt.Errorf("there is no %q", step)
	}
	return out, nil
}
