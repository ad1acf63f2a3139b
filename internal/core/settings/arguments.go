package settings

import "strings"

// Arguments reads the arguments of a command line that is a list of words, in the
// way of the launch script formats. Its entries cannot be edited.
func Arguments(args []string) []Entry {
	words := make([]word, len(args))
	for i, a := range args {
		words[i] = word{raw: a, line: 1, command: 1}
	}
	var out []Entry
	for i := range words {
		if key, value, _, ok := argument(words, i); ok {
			out = append(out, Entry{Key: key, Value: value, Line: 1, fixed: "it stands in the start command"})
		}
	}
	return out
}

// Includes finds the lines that take in another file: find gives the path that
// a line names.
func (d *Document) Includes(find func(line string) (string, bool)) map[int]string {
	out := map[int]string{}
	for i, l := range strings.Split(string(d.body), "\n") {
		if file, ok := find(strings.TrimSuffix(l, "\r")); ok {
			out[i+1] = file
		}
	}
	return out
}
