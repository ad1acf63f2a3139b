package local

import (
	"path/filepath"

	"reshard/internal/core/fault"
	"reshard/internal/places"
)

// mayBeRoot refuses folders that belong to the system or to the service itself: a server's
// folder is listed, read, and what is in it moved.
func (m machine) mayBeRoot(root string) error {
	refused := func(why string) error {
		return fault.New(fault.Invalid, "look at", root, "%s", why).
			With("Give the folder that holds the game server and nothing else.")
	}
	switch {
	case places.Shared(root):
		return refused("it is a folder of the system, and no server's own")
	case places.System(root):
		return refused("it belongs to the system")
	}
	data := m.spec.Data
	if real, err := filepath.EvalSymlinks(data); err == nil {
		data = real
	}
	switch {
	case places.Within(root, data):
		return refused("it is in the service's own data folder")
	case places.Within(data, root):
		return refused("the service's own data folder is in it")
	}
	return nil
}
