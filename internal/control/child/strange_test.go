package child_test

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/control"
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

// A start script that is still open for writing, as it is for a moment in every process
// that is forked meanwhile, is waited for.
func TestAStartScriptThatIsStillWritten(t *testing.T) {
	t.Parallel()
	c, _, dir := script(t, wellBehaved)
	held, err := os.OpenFile(filepath.Join(dir, "run"), os.O_WRONLY, 0)
	require.NoError(t, err)
	time.AfterFunc(300*time.Millisecond, func() { _ = held.Close() })
	_, err = c.Start(context.Background())
	require.NoError(t, err)
	_, err = c.Stop(context.Background(), control.Clean)
	assert.NoError(t, err)
}
