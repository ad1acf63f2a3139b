// Package yamldoc parses YAML that a stranger may have written. The parser's time and
// memory grow with the square of a document's depth, and with the square of a mapping's
// length, so that depth, length and size are looked at in the tokens before it.
package yamldoc

import (
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Bounds of a document.
const (
	Longest    = 1 << 20 // in bytes
	Deepest    = 64      // of collections within collections
	MostTokens = 60_000
	// MostWritten bounds the tokens of what a person writes by hand, such as a profile.
	MostWritten = 20_000
	// MostNodes bounds a document after its aliases have been followed.
	MostNodes = 200_000
)

// Parse gives a document's syntax tree. The error is the parser's own, or says which bound
// is broken.
func Parse(data []byte) (*ast.File, error) { return ParseUpTo(data, MostTokens) }

// ParseUpTo is Parse of a document of so many tokens at most.
func ParseUpTo(data []byte, most int) (file *ast.File, err error) {
	defer func() {
		if r := recover(); r != nil { // the library met odd input
			file, err = nil, fmt.Errorf("is not YAML that can be read: %v", r)
		}
	}()
	if len(data) > Longest {
		return nil, fmt.Errorf("%d bytes are more than a YAML document may have (%d)", len(data), Longest)
	}
	signs := 0 // each makes two tokens at most
	for _, c := range data {
		if strings.IndexByte(",[]{}:-?&*!|>'\"#%\n", c) >= 0 {
			signs++
		}
	}
	if signs > 2*most {
		return nil, fmt.Errorf("holds more than %d words and signs", most)
	}
	tokens := lexer.Tokenize(string(data))
	if len(tokens) > most {
		return nil, fmt.Errorf("holds more than %d words and signs", most)
	}
	if at := tooDeep(tokens); at != nil {
		return nil, fmt.Errorf("line %d: nested deeper than %d", at.Position.Line, Deepest)
	}
	file, err = parser.Parse(tokens, 0)
	if err != nil {
		return nil, err
	}
	return file, bounded(file)
}

// tooDeep gives the token at which a document is nested too deep. Of block collections
// the columns tell, of flow collections the brackets.
func tooDeep(tokens token.Tokens) *token.Token {
	var columns []int
	flow, line, tags := 0, 0, 0
	for _, t := range tokens {
		if t.Position == nil {
			continue
		}
		switch t.Type {
		case token.SequenceStartType, token.MappingStartType:
			flow++
		case token.SequenceEndType, token.MappingEndType:
			flow = max(0, flow-1)
		case token.DocumentHeaderType, token.DocumentEndType:
			columns = columns[:0]
		}
		if t.Type == token.TagType || t.Type == token.AnchorType {
			tags++ // each is a node around what follows
		} else {
			tags = 0
		}
		opens := t.Type == token.SequenceEntryType || t.Type == token.MappingKeyType
		if flow == 0 && (opens || t.Position.Line != line) {
			at := t.Position.Column
			for len(columns) > 0 && columns[len(columns)-1] >= at {
				columns = columns[:len(columns)-1]
			}
			columns = append(columns, at)
		}
		line = t.Position.Line
		if len(columns)+flow+tags > Deepest {
			return t
		}
	}
	return nil
}

// bounded counts nodes as they are once aliases have been followed: a few lines can refer
// to each other until they stand for more than any memory holds.
func bounded(file *ast.File) error {
	c := counter{anchors: map[string]int{}}
	total := 0
	for _, doc := range file.Docs {
		n, err := c.count(doc.Body)
		if total += n; err != nil || total > MostNodes {
			return errors.Join(err, tooMany(total))
		}
	}
	return nil
}

func tooMany(n int) error {
	if n <= MostNodes {
		return nil
	}
	return fmt.Errorf("stands for more than %d values", MostNodes)
}

type counter struct{ anchors map[string]int }

func (c *counter) count(n ast.Node) (total int, err error) {
	add := func(child ast.Node) {
		m, cerr := c.count(child)
		total += m
		if err == nil {
			err = cerr
		}
		if err == nil {
			err = tooMany(total)
		}
	}
	total = 1
	switch v := n.(type) {
	case nil:
		return 0, nil
	case *ast.MappingNode:
		for _, m := range v.Values {
			if err == nil {
				add(m)
			}
		}
	case *ast.MappingValueNode:
		add(v.Key)
		add(v.Value)
	case *ast.MappingKeyNode:
		add(v.Value)
	case *ast.SequenceNode:
		for _, item := range v.Values {
			if err == nil {
				add(item)
			}
		}
	case *ast.TagNode:
		add(v.Value)
	case *ast.AnchorNode:
		name := v.Name.GetToken().Value
		c.anchors[name] = MostNodes // one that holds itself stands for too much
		add(v.Value)
		c.anchors[name] = total
	case *ast.AliasNode:
		total += c.anchors[strings.TrimPrefix(v.Value.GetToken().Value, "*")]
		if err = tooMany(total); err != nil {
			return total, err
		}
	}
	return total, err
}
