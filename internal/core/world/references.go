package world

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"io/fs"
	"sort"

	"reshard/internal/core/budget"
	"reshard/internal/core/fact"
	"reshard/internal/core/game"
)

// Reference is a place in a world that refers to a player by id.
type Reference struct {
	File  string `json:"file"`
	Place string `json:"place"` // the pointer, or "bytes"
	ID    string `json:"id"`
	// Count is how often the id stands there.
	Count int `json:"count"`
}

// References finds the places that refer to players, as the profile names them:
// beside the records themselves, these are what has to change when a player gets
// another id. The warnings tell of files that do not read.
func References(fsys fs.FS, f Found, players []Player) (refs []Reference, warnings []string) {
	pl := f.Game.World.Players
	if pl == nil {
		return nil, nil
	}
	root, err := fs.Sub(fsys, f.Root)
	if err != nil {
		return nil, []string{err.Error()}
	}
	b := budget.World()
	defer b.Done()
	r := fact.NewReader(root, b)
	r.File, r.Name = f.Main(), f.Folder
	for _, ref := range pl.References {
		files, err := fs.Glob(root, ref.Read)
		if err != nil || len(files) == 0 {
			warnings = append(warnings, "no file matches "+ref.Read)
			continue
		}
		for _, file := range files {
			counts, err := refer(r, ref, file, pl, players)
			if err != nil {
				warnings = append(warnings, file+": "+err.Error())
			}
			for id, n := range counts {
				place := ref.Pick
				if ref.Bytes > 0 {
					place = "bytes"
				}
				refs = append(refs, Reference{File: file, Place: place, ID: id, Count: n})
			}
		}
	}
	sort.Slice(refs, func(i, j int) bool {
		a, b := refs[i], refs[j]
		return a.File+"\x00"+a.Place+"\x00"+a.ID < b.File+"\x00"+b.Place+"\x00"+b.ID
	})
	return refs, warnings
}

func refer(r *fact.Reader, ref game.Reference, file string, pl *game.Players,
	players []Player) (map[string]int, error) {
	counts := map[string]int{}
	if ref.Bytes == 0 {
		list := r.Read("ids", game.Sources{{Read: file, Through: ref.Through, Pick: ref.Pick, Type: "list", ID: "/"}})
		if !list.Known() {
			return nil, fmt.Errorf("%s", list.Why)
		}
		for _, it := range list.Items {
			counts[it.ID]++
		}
		return counts, nil
	}
	data, err := r.Bytes(file, ref.Through)
	if err != nil {
		return nil, err
	}
	for _, p := range players {
		id, ok := game.IDBytes(pl.ID, p.ID)
		if !ok || len(id) != ref.Bytes {
			continue
		}
		if n := bytes.Count(data, id); n > 0 {
			counts[hex.EncodeToString(id)] += n
		}
	}
	return counts, nil
}
