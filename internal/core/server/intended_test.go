package server_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
	"reshard/internal/core/server"
)

func TestARunningWorldIsComparedWithTheIntendedOne(t *testing.T) {
	t.Parallel()
	folders, err := games.Find("quarrymoss")
	require.NoError(t, err)
	files, err := games.Find("openttd")
	require.NoError(t, err)
	meant := server.Identity{Folder: "bed1", Seed: "7", WorldID: "a"}
	for name, c := range map[string]struct {
		running server.Running
		want    server.Difference
	}{
		"the same, by its name": {server.Running{Opened: "bed1", Named: "bed1"}, server.Same},
		"the same, by its path": {server.Running{Opened: "/srv/osier/worlds/bed1/", Named: "bed1"}, server.Same},
		"nothing is known":      {server.Running{}, server.Same},
		"another is open":       {server.Running{Opened: "osier-holt", Named: "osier-holt"}, server.OtherOpened},
		"another is open, and the settings still name it": {
			server.Running{Opened: "osier-holt", Named: "bed1"}, server.OtherOpened,
		},
		"the settings name another": {server.Running{Opened: "bed1", Named: "osier-holt"}, server.OtherNamed},
		"the log is not read, and the settings name another": {
			server.Running{Named: "osier-holt"}, server.OtherNamed,
		},
		"it was moved away under the running game": {
			server.Running{Opened: "bed1", Named: "bed1", Gone: true}, server.Removed,
		},
		"nothing shows what is open, and it is not there": {server.Running{Named: "bed1", Gone: true}, server.Same},
		"of that name, with another seed": {
			server.Running{Opened: "bed1", World: server.Identity{Folder: "bed1", Seed: "8", WorldID: "a"}},
			server.OtherContent,
		},
		"of that name, with another id": {
			server.Running{Opened: "bed1", World: server.Identity{Folder: "bed1", Seed: "7", WorldID: "b"}},
			server.OtherContent,
		},
		"of that name, and nothing else is known of it": {
			server.Running{Opened: "bed1", World: server.Identity{Folder: "bed1"}}, server.Same,
		},
		"a world that does not run has another seed": {
			server.Running{Opened: "bed1", World: server.Identity{Folder: "bed2", Seed: "8"}}, server.Same,
		},
	} {
		assert.Equal(t, c.want, meant.Differs(c.running, folders), name)
	}
	saving := *files
	saving.World.Autosaves = []string{"autosave*.sav"}
	files = &saving
	save := server.Identity{Folder: "fen"}
	assert.Equal(t, server.Same, save.Differs(server.Running{Opened: "save/fen.sav"}, files))
	assert.Equal(t, server.OtherOpened, save.Differs(server.Running{Opened: "save/moor.sav"}, files))
	assert.Equal(t, server.Same, save.Differs(server.Running{Opened: "save/autosave3.sav"}, files), "its own save")
}
