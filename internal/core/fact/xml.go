package fact

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"reshard/internal/core/budget"
)

// element is one XML element. A pointer goes into it as an XPath would: a name
// means the children of that name, "*" every child, "@name" an attribute, and
// "name[@key='x']" the children that have the attribute. Its own value is its
// text.
type element struct {
	name     string
	attrs    map[string]string
	text     string
	written  strings.Builder // text, until its end
	children []*element
}

func decodeXML(b *budget.Budget, data []byte) (any, error) {
	c := cost{b: b}
	dec := xml.NewDecoder(bytes.NewReader(data))
	dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	top := &element{}
	open := []*element{top}
	for {
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return top, c.flush()
		}
		if err == nil {
			err = c.add(budget.Value)
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
			child := &element{name: t.Name.Local}
			weight := int64(elementSize + len(t.Name.Local))
			if len(t.Attr) > 0 {
				child.attrs = make(map[string]string, len(t.Attr))
				weight += budget.Map
			}
			for _, a := range t.Attr {
				child.attrs[a.Name.Local] = a.Value
				weight += int64(budget.Entry + len(a.Name.Local) + len(a.Value))
			}
			if err := c.add(weight); err != nil {
				return nil, err
			}
			at.children = append(at.children, child)
			open = append(open, child)
		case xml.EndElement:
			at.text = strings.TrimSpace(at.written.String())
			open = open[:len(open)-1]
		case xml.CharData:
			if err := c.add(int64(2 * len(t))); err != nil { // a builder has room to spare
				return nil, err
			}
			at.written.Write(t) // never fails
		}
	}
}

// elementSize is what an element takes of memory, in bytes.
const elementSize = 160

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
