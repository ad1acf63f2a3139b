package local_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/cmd/standin/emberlode"
	"reshard/cmd/standin/quarrymoss"
	"reshard/cmd/standin/saltmarch"
	"reshard/games"
	"reshard/internal/local"
)

// A person's computer, as each system lays it out: variables and the home folder, and
// where below the computer's root the games keep their worlds.
var computers = map[string]struct {
	home      string
	variables map[string]string
	moss      string
	salt      string
	ember     string
	rail      string
}{
	"windows": {
		home: "Users/ada", variables: map[string]string{
			"APPDATA":      "Users/ada/AppData/Roaming",
			"LOCALAPPDATA": "Users/ada/AppData/Local",
			"USERPROFILE":  "Users/ada",
		},
		moss: "Users/ada/AppData/Roaming/Quarrymoss/worlds", salt: "Users/ada/AppData/Local/Saltmarch/Saved/Worlds",
		ember: "Users/ada/AppData/Roaming/Emberlode/saves", rail: "Users/ada/Documents/OpenTTD/save",
	},
	"macos": {
		home: "Users/ada", moss: "Users/ada/Library/Application Support/Quarrymoss/worlds",
		salt:  "Users/ada/Library/Application Support/Saltmarch/Saved/Worlds",
		ember: "Users/ada/Library/Application Support/Emberlode/saves", rail: "Users/ada/Documents/OpenTTD/save",
	},
	"linux": {
		home: "home/ada", moss: "home/ada/.local/share/quarrymoss/worlds",
		salt:  "home/ada/.config/saltmarch/Saved/Worlds",
		ember: "home/ada/.local/share/emberlode/saves", rail: "home/ada/.openttd/save",
	},
}

func TestFindOnEachSystem(t *testing.T) {
	t.Parallel()
	for system, c := range computers {
		t.Run(system, func(t *testing.T) {
			t.Parallel()
			root := t.TempDir()
			at := func(p string) string {
				full := filepath.Join(root, filepath.FromSlash(p))
				require.NoError(t, os.MkdirAll(full, 0o755))
				return full
			}
			old, now := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC), time.Now()
			require.NoError(t, quarrymoss.Make(filepath.Join(at(c.moss), "fen"),
				quarrymoss.Options{Title: "Fen", Seed: -5, Tiles: 2, Folk: []string{"Ada"}, LastPlayed: old}))
			require.NoError(t, quarrymoss.Make(filepath.Join(at(c.moss), "moor"),
				quarrymoss.Options{Title: "Moor", Tiles: 2, LastPlayed: old.AddDate(0, 1, 0)}))
			require.NoError(t, os.Truncate(filepath.Join(root, filepath.FromSlash(c.moss), "moor", "heart.cbor.gz"),
				40))
			require.NoError(t, os.WriteFile(filepath.Join(at(c.moss), "fen", "held.lock"), []byte("1"), 0o644))
			at(c.moss + "/a folder of pictures")
			for account, name := range map[string]string{"76a1": "Reed House", "99f0": "Mud House"} {
				_, err := saltmarch.Make(at(c.salt+"/"+account), saltmarch.Options{Name: name, Seed: 1, Host: "Ada"})
				require.NoError(t, err)
			}
			require.NoError(t, emberlode.Make(at(c.ember+"/u-1"), "kettle",
				emberlode.Save{Expedition: "Kettle", Seed: 4}, 3))
			require.NoError(t, os.WriteFile(filepath.Join(at(c.rail), "valley.sav"), []byte("OTTN\x01\x2c and more"),
				0o644))
			require.NoError(t, os.WriteFile(filepath.Join(at(c.rail), "broken.sav"), []byte("OT"), 0o644))
			for _, p := range []string{c.moss, c.salt, c.ember, c.rail} {
				age(t, at(p), old)
			}

			stores := local.Stores(games.All(), system, filepath.Join(root, filepath.FromSlash(c.home)),
				func(name string) string {
					if v := c.variables[name]; v != "" {
						return filepath.Join(root, filepath.FromSlash(v))
					}
					return ""
				})
			got := local.Find(stores, now)
			titles, damaged, open, likely := map[string]string{}, []string{}, []string{}, ""
			for _, w := range got.Worlds {
				titles[w.World.Folder] = w.World.Title
				if w.Damaged != "" {
					damaged = append(damaged, w.World.Folder)
				}
				if w.Open != "" {
					open = append(open, w.Open)
				}
				if w.Likely != "" {
					likely = w.World.Title
				}
				_, err := os.Stat(w.At)
				assert.NoError(t, err, "what is told is a path")
			}
			assert.Len(t, titles, 6)
			assert.Equal(t, "Fen", titles["fen"])
			assert.Equal(t, "Kettle", titles["kettle"])
			assert.Equal(t, []string{"moor"}, damaged)
			assert.Equal(t, []string{"held.lock is there"}, open)
			assert.Equal(t, "Kettle", likely, "its own date is the newest")
			unfamiliar := map[string]string{}
			for _, u := range got.Unfamiliar {
				unfamiliar[filepath.Base(u.At)] = u.Why
			}
			assert.Equal(t, "it has no heart.cbor.gz", unfamiliar["a folder of pictures"])
			assert.Contains(t, unfamiliar["broken.sav"], "it may be cut short")

			below, err := local.FindBelow(root, games.All(), now)
			require.NoError(t, err)
			assert.Len(t, below.Worlds, 6, "the same without knowing where games keep them")
			_, err = local.FindBelow(filepath.Join(root, "none"), games.All(), now)
			assert.Error(t, err)
		})
	}
}

// age makes everything below a folder old.
func age(t *testing.T, dir string, when time.Time) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(p string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Chtimes(p, when, when)
	}))
}
