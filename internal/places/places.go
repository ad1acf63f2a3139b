// Package places tells which folders of a machine belong to its system (hier(7)), so that nothing of a server or a
// store is put there.
package places

import (
	"slices"
	"strings"
)

// systemTrees belong to the system, with all that is below them; inTrees are the places below them where games are
// put all the same.
var (
	systemTrees = []string{
		"/etc", "/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/boot", "/dev", "/proc", "/sys",
		"/run",
		"/var/run", "/var/lib/dpkg", "/var/lib/apt", "/var/lib/postgresql", "/var/lib/systemd", "/var/spool",
		"/var/cache",
	}
	inTrees = []string{"/dev/shm", "/usr/local/games", "/usr/local/lib", "/usr/local/share", "/usr/games"}
	// systemFolders hold what belongs to others; a folder below them may be anybody's.
	systemFolders = []string{
		"/", "/home", "/root", "/var", "/var/lib", "/var/games", "/var/log", "/var/tmp", "/tmp", "/opt", "/srv", "/mnt",
		"/media",
	}
)

// Within reports whether a folder is a tree's own, or below it. Both are clean and absolute.
func Within(folder, tree string) bool {
	return folder == tree || strings.HasPrefix(folder, strings.TrimSuffix(tree, "/")+"/")
}

// Shared reports whether a folder holds what belongs to several, such as /srv: what is below it may be anybody's.
func Shared(folder string) bool { return slices.Contains(systemFolders, folder) }

// System reports whether a folder belongs to the system, with all that is below it.
func System(folder string) bool {
	for _, tree := range systemTrees {
		below := slices.ContainsFunc(inTrees, func(in string) bool { return Within(folder, in) && folder != in })
		if Within(folder, tree) && !below {
			return true
		}
	}
	return false
}
