package child_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/control/child"
)

// A game's folder is written by the game, its mods and whoever has access to it. A log there
// that is a link out of it, or a pipe, is neither followed nor waited for.
func TestALogThatIsNoneOfTheServersIsNotRead(t *testing.T) {
	t.Parallel()
	secret := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(secret, []byte("an administrator's token"), 0o600))
	for what, place := range map[string]func(log string) error{
		"a link out of the folder": func(log string) error { return os.Symlink(secret, log) },
		"a link with dots": func(log string) error {
			return os.Symlink("../../../../../../../../"+secret, log)
		},
		"a named pipe": func(log string) error { return syscall.Mkfifo(log, 0o600) },
		"a folder":     func(log string) error { return os.Mkdir(log, 0o700) },
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			require.NoError(t, place(filepath.Join(dir, "game.log")))
			d, err := child.New(child.Spec{
				Command: child.Command{Args: []string{"/bin/true"}, Dir: dir}, State: t.TempDir(), Mark: "m/1",
				LogFile: "game.log",
			})
			require.NoError(t, err)
			begun := time.Now()
			p := make([]byte, 1<<10)
			n, err := d.ReadLog(t.Context(), "1", p, 0)
			assert.NotContains(t, string(p[:n]), "token")
			assert.Error(t, err)
			assert.Less(t, time.Since(begun), 5*time.Second)
		})
	}
}
