package fact

import (
	"fmt"
	"reflect"
	"sort"
	"strconv"
	"strings"
)

var mapType = reflect.TypeFor[map[string]any]()

// flat is a document of keys without levels, such as a settings file. A pointer
// names a key: the pointer itself, or what follows its first slash.
type flat map[string]any

func (f flat) pick(pointer string) ([]any, error) {
	if v, ok := f[pointer]; ok {
		return []any{v}, nil
	}
	key := strings.TrimPrefix(pointer, "/")
	if v, ok := f[key]; ok {
		return []any{v}, nil
	}
	// The last step may be every key that begins so.
	if before, all := strings.CutSuffix(key, "*"); all {
		var out []any
		for _, k := range sortedKeys(f) {
			if strings.HasPrefix(strings.TrimPrefix(k, "/"), before) {
				out = append(out, f[k])
			}
		}
		return out, nil
	}
	return nil, fmt.Errorf("there is no key %q", key)
}

func sortedKeys(f flat) []string {
	keys := make([]string, 0, len(f))
	for k := range f {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

// pick follows a JSON pointer (RFC 6901); a step "*" means every item of a list
// or map. The empty pointer means the whole, and a list as a whole its items.
func pick(doc any, pointer string) ([]any, error) {
	if pointer == "/" && !isMap(doc) {
		return []any{doc}, nil // the item itself
	}
	if pointer == "" {
		if list, ok := doc.([]any); ok {
			return list, nil
		}
		return []any{doc}, nil
	}
	if f, ok := doc.(flat); ok {
		return f.pick(pointer)
	}
	at := []any{doc}
	for _, step := range strings.Split(pointer, "/")[1:] {
		step = strings.NewReplacer("~1", "/", "~0", "~").Replace(step)
		var next []any
		for _, v := range at {
			found, err := descend(v, step)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", pointer, err)
			}
			next = append(next, found...)
			if len(next) > mostNodes {
				return nil, fmt.Errorf("%s means more than %d values", pointer, mostNodes)
			}
		}
		at = next
	}
	return at, nil
}

func isMap(doc any) bool {
	switch doc.(type) {
	case map[string]any, flat, *element:
		return true
	}
	return false
}

func descend(v any, step string) ([]any, error) {
	switch node := v.(type) {
	case *element:
		return node.descend(step)
	case map[string]any:
		if step == "*" {
			out := make([]any, 0, len(node))
			for _, child := range node {
				out = append(out, child)
			}
			return out, nil
		}
		child, ok := node[step]
		if !ok {
			return nil, fmt.Errorf("there is no %q", step)
		}
		return []any{child}, nil
	case []any:
		if step == "*" {
			return node, nil
		}
		i, err := strconv.Atoi(step)
		if err != nil || i < 0 || i >= len(node) {
			return nil, fmt.Errorf("a list of %d has no item %q", len(node), step)
		}
		return []any{node[i]}, nil
	case nil:
		if step == "*" {
			return nil, nil
		}
	}
	return nil, fmt.Errorf("nothing stands below a single value at %q", step)
}
