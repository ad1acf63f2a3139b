// Package games embeds the game profiles that ship with Reshard.
package games

import (
	"embed"
	"fmt"
	"sync"

	"reshard/internal/core/game"
)

//go:embed *.yaml
var files embed.FS

// All gives the shipped profiles in the order of their ids. They are validated
// by the tests, so a failure here is a defect of the build.
var All = sync.OnceValue(func() []*game.Profile {
	entries, err := files.ReadDir(".")
	if err != nil {
		panic(err)
	}
	var out []*game.Profile
	for _, e := range entries {
		p, err := game.Parse(e.Name(), mustRead(e.Name()))
		if err != nil {
			panic(err)
		}
		out = append(out, p)
	}
	return out
})

func mustRead(name string) []byte {
	data, err := files.ReadFile(name)
	if err != nil {
		panic(err)
	}
	return data
}

// Source gives a shipped profile's document.
func Source(id string) ([]byte, error) { return files.ReadFile(id + ".yaml") }

// Find gives the shipped profile of that id.
func Find(id string) (*game.Profile, error) {
	for _, p := range All() {
		if p.ID == id {
			return p, nil
		}
	}
	return nil, fmt.Errorf("no profile %q", id)
}
