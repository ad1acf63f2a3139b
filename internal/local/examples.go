package local

import (
	"errors"
	"image/png"
	"io"
	"os"
	"path/filepath"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/game"
	"reshard/internal/core/server"
	"reshard/internal/core/sketch"
	"reshard/internal/core/world"
)

// Examples are what a profile is tried with, or sketched from: paths on this
// computer, either of which may be empty.
type Examples struct {
	World  string
	Server string
	Kind   string // of the server, when the profile has several
	System string // of the server: linux, macos or windows
}

// Tried is what a profile read of examples.
type Tried struct {
	World *world.Facts `json:"world,omitempty"`
	// References are the places that refer to players by id.
	References []world.Reference `json:"references,omitempty"`
	Server     *server.State     `json:"server,omitempty"`
	// Picture tells that the world can be drawn, PictureWhy why it cannot.
	Picture    bool   `json:"picture,omitempty"`
	PictureWhy string `json:"pictureWhy,omitempty"`
}

// Try runs a profile against examples. The world's picture is written to picture,
// when that is given.
func Try(p *game.Profile, e Examples, picture io.Writer) (Tried, error) {
	var got Tried
	if e.World != "" {
		w, err := Open(e.World, "", []*game.Profile{p})
		if err != nil {
			return got, err
		}
		defer w.Close()
		got.World = &w.World
		var warnings []string
		got.References, warnings = world.References(w.Tree, w.Found, w.World.Players)
		got.World.Warnings = append(got.World.Warnings, warnings...)
		got.draw(w, p, picture)
	}
	if e.Server == "" {
		return got, nil
	}
	if e.Kind == "" && len(p.Server.Kinds) == 1 {
		e.Kind = p.KindNames()[0]
	}
	if _, ok := p.Server.Kinds[e.Kind]; !ok {
		return got, fault.New(fault.Invalid, "try profile", p.ID, "the profile has the kinds %s: say which one",
			strings.Join(p.KindNames(), ", "))
	}
	tree, err := openTree(e.Server)
	if err != nil {
		return got, err
	}
	state, err := server.Read(tree, p,
		server.Machine{Kind: e.Kind, System: e.System, Roots: rootsOf(e.Server)})
	if err != nil {
		return got, fault.New(fault.NotFound, "read server", e.Server, "it cannot be listed: %v", err)
	}
	got.Server = &state
	return got, nil
}

func (got *Tried) draw(w World, p *game.Profile, picture io.Writer) {
	if p.World.Picture == nil {
		return
	}
	img, _, err := world.Picture(w.Tree, w.Found)
	if err == nil && picture != nil {
		err = png.Encode(picture, img)
	}
	got.Picture = err == nil
	if err != nil {
		got.PictureWhy = err.Error()
	}
}

// Sketch proposes a first profile from examples.
func Sketch(e Examples, id string) (sketch.Proposal, error) {
	in := sketch.Input{ID: id}
	if e.World != "" {
		full, err := filepath.Abs(e.World)
		if err != nil {
			return sketch.Proposal{}, fault.Wrap(fault.Internal, "look at", e.World, err)
		}
		if in.World, in.WorldPath, err = beside(full); err != nil {
			return sketch.Proposal{}, err
		}
	}
	if e.Server != "" {
		tree, err := openTree(e.Server)
		if err != nil {
			return sketch.Proposal{}, err
		}
		in.Server, in.Roots = tree, rootsOf(e.Server)
	}
	p, err := sketch.Draw(in)
	if errors.Is(err, os.ErrNotExist) {
		return p, fault.New(fault.NotFound, "sketch from", e.World+" "+e.Server, "one of them is not there").
			With("Check both paths.")
	}
	return p, fault.Wrap(fault.Refused, "sketch from", e.World+" "+e.Server, err)
}

// rootsOf gives a folder's absolute path, which settings may name.
func rootsOf(folder string) []string {
	full, err := filepath.Abs(folder)
	if err != nil {
		return nil
	}
	return []string{full}
}
