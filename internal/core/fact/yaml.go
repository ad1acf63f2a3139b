package fact

import (
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"reshard/internal/core/budget"
	"reshard/internal/core/yamldoc"
)

// decodeYAML gives the values of a YAML document's syntax tree. What an alias stands for is
// one value in many places.
func decodeYAML(b *budget.Budget, data []byte) (any, error) {
	file, err := yamldoc.Parse(data)
	if err != nil {
		return nil, errors.New(firstLine(err.Error()))
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, nil
	}
	t := yamlTree{cost: cost{b: b}, anchors: map[string]any{}}
	v, err := t.value(file.Docs[0].Body)
	return v, errors.Join(err, t.cost.flush())
}

type yamlTree struct {
	cost    cost
	anchors map[string]any
}

func (t *yamlTree) value(n ast.Node) (any, error) {
	if n == nil {
		return nil, nil
	}
	if err := t.cost.add(budget.Value); err != nil {
		return nil, err
	}
	switch v := n.(type) {
	case *ast.MappingNode:
		out := map[string]any{}
		err := t.cost.add(budget.Map)
		for _, m := range v.Values {
			if err == nil {
				err = t.member(out, m)
			}
		}
		return out, err
	case *ast.MappingValueNode:
		out := map[string]any{}
		return out, errors.Join(t.cost.add(budget.Map), t.member(out, v))
	case *ast.SequenceNode:
		out := make([]any, 0, len(v.Values))
		for _, item := range v.Values {
			one, err := t.value(item)
			if err != nil {
				return nil, err
			}
			out = append(out, one)
		}
		return out, nil
	case *ast.AnchorNode:
		got, err := t.value(v.Value)
		t.anchors[v.Name.GetToken().Value] = got
		return got, err
	case *ast.AliasNode:
		got, ok := t.anchors[v.Value.GetToken().Value]
		if !ok {
			return nil, fmt.Errorf("there is no anchor %q before its alias", v.Value.GetToken().Value)
		}
		return got, nil
	case *ast.TagNode:
		return t.tagged(v)
	case *ast.LiteralNode:
		return t.text(v.Value.Value)
	case *ast.StringNode:
		return t.text(v.Value)
	case ast.ScalarNode:
		return v.GetValue(), nil
	}
	return nil, fmt.Errorf("a %s is no value", n.Type())
}

func (t *yamlTree) text(s string) (any, error) { return s, t.cost.add(int64(len(s))) }

// tagged gives a value with a tag; the library knows what the standard's tags mean.
func (t *yamlTree) tagged(n *ast.TagNode) (any, error) {
	if _, scalar := n.Value.(ast.ScalarNode); !scalar {
		return t.value(n.Value)
	}
	var out any
	if err := yaml.NodeToValue(n, &out); err != nil {
		return nil, errors.New(firstLine(err.Error()))
	}
	if text, ok := out.(string); ok {
		return t.text(text)
	}
	return out, nil
}

// member puts a pair into a mapping. "<<" takes in another mapping, whose keys count less
// (the merge key of YAML 1.1).
func (t *yamlTree) member(into map[string]any, m *ast.MappingValueNode) error {
	v, err := t.value(m.Value)
	if err != nil {
		return err
	}
	if _, merge := m.Key.(*ast.MergeKeyNode); merge {
		from, ok := v.(map[string]any)
		if !ok {
			return errors.New("what << takes in is no mapping")
		}
		for k, one := range from {
			if _, there := into[k]; !there {
				if err := t.cost.add(budget.Entry); err != nil {
					return err
				}
				into[k] = one
			}
		}
		return nil
	}
	key, err := t.value(m.Key)
	if err != nil {
		return err
	}
	name := fmt.Sprint(key)
	into[name] = v
	return t.cost.add(int64(budget.Entry + len(name)))
}
