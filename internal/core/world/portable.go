package world

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"reshard/internal/core/filename"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// reserved are names that Windows keeps for devices, with any ending (Microsoft,
// "Naming Files, Paths, and Namespaces").
var reserved = regexp.MustCompile(`(?i)^(con|prn|aux|nul|com[1-9]|lpt[1-9])(\..*)?$`)

// elsewhere says which of a world's names are none, or not of their own, on other
// systems: a server there would get fewer files than the world has.
func elsewhere(folder string, entries []Entry) (warnings []string) {
	if !takenByWindows(folder) {
		warnings = append(warnings, "Windows does not take the folder name "+filename.Quote(folder))
	}
	fold := cases.Fold()
	var refused, same []string
	byFolded, seen := map[string]string{}, map[string]bool{}
	for _, e := range entries {
		name := path.Join(e.Part, e.Path)
		for at := name; at != "." && !seen[e.Part+"\x00"+at]; at = path.Dir(at) {
			seen[e.Part+"\x00"+at] = true
			if !takenByWindows(path.Base(at)) {
				refused = append(refused, filename.Quote(at))
			}
			folded := fold.String(norm.NFC.String(at))
			if other, ok := byFolded[folded]; ok && other != at {
				same = append(same, filename.Quote(other)+" and "+filename.Quote(at))
			}
			byFolded[folded] = at
		}
	}
	if len(refused) > 0 {
		warnings = append(warnings, "Windows does not take these names: "+some(refused))
	}
	if len(same) > 0 {
		warnings = append(warnings, "on Windows and macOS these are one and the same: "+some(same))
	}
	return warnings
}

func takenByWindows(name string) bool {
	return !reserved.MatchString(name) && !strings.ContainsAny(name, `<>:"|?*\`) && !strings.HasSuffix(name, ".") &&
		!strings.HasSuffix(name, " ") &&
		!strings.ContainsFunc(name, func(r rune) bool { return r < 32 })
}

// some names the first few of many.
func some(names []string) string {
	slices.Sort(names)
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}
