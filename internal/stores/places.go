package stores

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"reshard/internal/places"
	"reshard/internal/records"
)

// real is a folder without links, as far as it is there yet.
func real(folder string) string {
	folder = filepath.Clean(folder)
	if r, err := filepath.EvalSymlinks(folder); err == nil {
		return r
	}
	if up := filepath.Dir(folder); up != folder {
		return filepath.Join(real(up), filepath.Base(folder))
	}
	return folder
}

// keyFolders are names of folders that programs keep keys in.
var keyFolders = []string{".ssh", ".gnupg"}

// misplaced returns why a store should not be where it is: its folder belongs to the system, the service, a server or
// a database. It returns "" when the place is fine.
func (st *Stores) misplaced(ctx context.Context, s records.Store) (string, error) {
	if s.Settings.V.Kind != KindFiles {
		return "", nil
	}
	folder := real(s.Settings.V.Folder)
	switch {
	case places.System(folder):
		return folder + " belongs to the system", nil
	case places.Shared(folder):
		return folder + " is a shared folder: a store needs its own", nil
	case slices.ContainsFunc(strings.Split(folder, "/"), func(n string) bool { return slices.Contains(keyFolders, n) }):
		return "programs keep keys in " + folder, nil
	}
	roots, database, err := st.with.Records.TakenFolders(ctx)
	if err != nil {
		return "", err
	}
	type owned struct{ folder, by string }
	taken := []owned{{st.with.Data, "the service's own data folder"}}
	if database != "" {
		taken = append(taken, owned{database, "the database's folder"})
	}
	for _, r := range roots {
		taken = append(taken, owned{r, "the folder of a server"})
	}
	for _, t := range taken {
		there := real(t.folder)
		switch {
		case places.Within(folder, there):
			return fmt.Sprintf("%s is in %s (%s)", folder, t.by, there), nil
		case places.Within(there, folder):
			return fmt.Sprintf("%s (%s) is in %s", t.by, there, folder), nil
		}
	}
	for up := folder; ; up = filepath.Dir(up) {
		if _, err := os.Stat(filepath.Join(up, "PG_VERSION")); err == nil {
			return folder + " is in a folder of PostgreSQL", nil
		}
		if up == filepath.Dir(up) {
			return "", nil
		}
	}
}

// emptyFolder is "" when a folder has nothing in it yet, or is not there, else something that is in it.
func emptyFolder(folder string) (string, error) {
	list, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	for _, e := range list {
		if e.Name() != "lost+found" { // what fsck makes on a new disk
			return e.Name(), nil
		}
	}
	return "", err
}

// warnings say what is worth knowing of where a store is, as long as it is so.
func (st *Stores) warnings(s records.Store) []string {
	if s.Settings.V.Kind != KindFiles {
		return nil
	}
	var mine, there syscall.Stat_t
	if syscall.Stat(filepath.Join(st.with.Data, "vault"), &mine) == nil &&
		syscall.Stat(s.Settings.V.Folder, &there) == nil && mine.Dev == there.Dev {
		return []string{"This store is on the same disk as the vault: one failure loses both. Add a store on another " +
			"disk or machine."}
	}
	return nil
}
