package cli

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestShellWordOn(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ system, word, want string }{
		{"linux", "/srv/worlds/fen", "/srv/worlds/fen"},
		{"linux", "Fen Garden", "'Fen Garden'"},
		{"linux", "Ada's plot", `'Ada'\''s plot'`},
		{"linux", "$HOME;rm", "'$HOME;rm'"},
		{"linux", "", "''"},
		{"darwin", `C:\saves`, `'C:\saves'`},
		{"windows", `C:\saves\Fen-Garden`, `C:\saves\Fen-Garden`},
		{"windows", `C:\My Saves\Fen`, `"C:\My Saves\Fen"`},
		{"windows", "Ada's plot", `"Ada's plot"`},
		{"windows", "", `""`},
	} {
		assert.Equal(t, c.want, shellWordOn(c.system, c.word), c.system)
	}
}

func TestConfigFolder(t *testing.T) {
	t.Parallel()
	env := map[string]string{"HOME": "/home/ada", "APPDATA": `C:\Users\ada\AppData\Roaming`}
	get := func(name string) string { return env[name] }
	assert.Equal(t, filepath.Join("/home/ada", ".config"), configFolder("linux", get))
	assert.Equal(t, filepath.Join("/home/ada", "Library", "Application Support"), configFolder("darwin", get))
	assert.Equal(t, env["APPDATA"], configFolder("windows", get))
	env["XDG_CONFIG_HOME"] = "/tmp/x"
	assert.Equal(t, "/tmp/x", configFolder("windows", get))
}
