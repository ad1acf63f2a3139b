package executor

import (
	"path"
	"strings"

	"reshard/internal/core/capability"
	"reshard/internal/core/fault"
	"reshard/internal/core/filename"
)

// namesHeld is an error when a host cannot hold the names of files that are to be staged: it would
// write one over another, or not take it.
func namesHeld(files []stagedFile, can capability.Set) error {
	seen := map[string]string{}
	for _, f := range files {
		if !can.AnyName {
			for _, part := range strings.Split(filename.Decode(f.to), "/") {
				if why := notOnWindows(part); why != "" {
					return fault.New(fault.Invalid, "stage", f.to, "the host cannot hold such a name: %s", why).
						With("Rename the file in the world, or choose a server on a host that can hold it.")
				}
			}
		}
		if can.ExactCase {
			continue
		}
		key := strings.ToLower(f.to)
		if other, taken := seen[key]; taken {
			return fault.New(fault.Invalid, "stage", f.to, "it and %s are one file on the host: their names differ in "+
				"capitals only", path.Base(other)).
				With("Rename one of them in the world, or choose a server on a host that tells capitals apart.")
		}
		seen[key] = f.to
	}
	return nil
}

// reserved are names that Windows keeps for devices ("Naming Files, Paths, and Namespaces",
// learn.microsoft.com).
const reserved = " CON PRN AUX NUL COM1 COM2 COM3 COM4 COM5 COM6 COM7 COM8 COM9 " +
	"LPT1 LPT2 LPT3 LPT4 LPT5 LPT6 LPT7 LPT8 LPT9 "

// notOnWindows says why Windows does not take a name, "" when it does.
func notOnWindows(name string) string {
	base, _, _ := strings.Cut(name, ".")
	switch {
	case strings.ContainsAny(name, "<>:\"|?*\\"):
		return "it has one of the characters < > : \" | ? * \\"
	case strings.ContainsFunc(name, func(r rune) bool { return r < ' ' }):
		return "it has a control character"
	case strings.HasSuffix(name, ".") || strings.HasSuffix(name, " "):
		return "it ends in a dot or a blank"
	case base != "" && strings.Contains(reserved, " "+strings.ToUpper(base)+" "):
		return base + " is the name of a device"
	}
	return ""
}
