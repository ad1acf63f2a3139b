package fleet

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/games"
)

func TestTheLogTellsTheGamesOwnRoot(t *testing.T) {
	t.Parallel()
	p, err := games.Find("quarrymoss")
	require.NoError(t, err)
	roots := []string{"/", "/srv/known"}
	for opened, want := range map[string]string{
		"/opt/game/worlds/winter":    "/opt/game",
		"/opt/game/worlds/winter/":   "/opt/game",
		"/srv/known/worlds/winter":   "",
		"/opt/game/worlds/other":     "",
		"/opt/game/elsewhere/winter": "",
		"/worlds/winter":             "",
		"worlds/winter":              "",
		"winter":                     "",
		"":                           "",
	} {
		assert.Equal(t, want, gameRootOf(opened, roots, "worlds", "winter", p), opened)
	}
	assert.Empty(t, gameRootOf("/opt/game/worlds/", roots, "worlds", "", p))
}
