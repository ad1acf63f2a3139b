package local

import (
	"path/filepath"
	"slices"
	"strings"

	"reshard/internal/core/fault"
)

// systemTrees belong to the system, with all that is below them (hier(7)); inTrees are the
// places below them where games are put all the same.
var (
	systemTrees = []string{
		"/etc", "/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/boot", "/dev", "/proc", "/sys",
		"/run",
		"/var/run", "/var/lib/dpkg", "/var/lib/apt", "/var/lib/postgresql", "/var/lib/systemd", "/var/spool",
		"/var/cache",
	}
	inTrees = []string{"/dev/shm", "/usr/local/games", "/usr/local/lib", "/usr/local/share", "/usr/games"}
	// systemFolders hold what belongs to others; a folder below them may be a server's.
	systemFolders = []string{
		"/", "/home", "/root", "/var", "/var/lib", "/var/games", "/var/log", "/var/tmp", "/tmp", "/opt", "/srv", "/mnt",
		"/media",
	}
)

func within(folder, tree string) bool {
	return folder == tree || strings.HasPrefix(folder, strings.TrimSuffix(tree, "/")+"/")
}

// mayBeRoot refuses folders that belong to the system or to the service itself: a server's
// folder is listed, read, and what is in it moved.
func (m machine) mayBeRoot(root string) error {
	refused := func(why string) error {
		return fault.New(fault.Invalid, "look at", root, "%s", why).
			With("Give the folder that holds the game server and nothing else.")
	}
	if slices.Contains(systemFolders, root) {
		return refused("it is a folder of the system, and no server's own")
	}
	for _, tree := range systemTrees {
		below := slices.ContainsFunc(inTrees, func(in string) bool { return within(root, in) && root != in })
		if within(root, tree) && !below {
			return refused("it belongs to the system")
		}
	}
	data := m.spec.Data
	if real, err := filepath.EvalSymlinks(data); err == nil {
		data = real
	}
	switch {
	case within(root, data):
		return refused("it is in the service's own data folder")
	case within(data, root):
		return refused("the service's own data folder is in it")
	}
	return nil
}
