package world_test

import (
	"encoding/json"
	"testing"
	"time"

	"reshard/games"
	"reshard/internal/core/budget/budgettest"
	"reshard/internal/core/world"
)

// A listing is what a browser sends of a folder that it knows: any names, any sizes, and the
// beginnings of any files.
func FuzzListing(f *testing.F) {
	f.Add([]byte(`[{"path":"fen/heart.cbor.gz","size":4,"begin":"H4sIAA=="},{"path":"fen/x","size":272}]`))
	f.Add([]byte(`[{"path":"a.1.ember","size":20,"begin":"ewogImVtYmVybG9kZSI6IDR9"}]`))
	f.Add([]byte(`[{"path":"../x","size":-1},{"path":"a//b","size":9223372036854775807}]`))
	f.Fuzz(func(t *testing.T, data []byte) {
		var files []world.Listed
		if json.Unmarshal(data, &files) != nil {
			return
		}
		budgettest.Within(t, func() {
			_, _, _, _ = world.LookAtListing(world.NewListing(files), "fen", games.All(), time.Unix(1e9, 0))
		})
	})
}
