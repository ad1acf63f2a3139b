package library

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/core/game"
	"reshard/internal/core/world"
	"reshard/internal/records"
	"reshard/internal/vault"
	"reshard/internal/wire"
)

// worldRecord finds a world by what a person says.
func (lib *Library) worldRecord(ctx context.Context, ref string) (records.WorldEntry, records.Copy, error) {
	c, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return records.WorldEntry{}, c, err
	}
	all, err := lib.records.Worlds(ctx)
	return all[c.WorldID], c, err
}

// ChangeWorld records what a person says of a world. Another title is written into the
// world itself, which makes a copy.
func (lib *Library) ChangeWorld(ctx context.Context, ref string, change wire.ChangeWorld,
	by string) (wire.World, error) {
	w, newest, err := lib.worldRecord(ctx, ref)
	if err != nil {
		return wire.World{}, err
	}
	if change.Note != nil {
		w.Note = strings.TrimSpace(*change.Note)
	}
	if change.Tags != nil {
		if w.Tags.V, err = cleanTags(*change.Tags); err != nil {
			return wire.World{}, err
		}
	}
	if change.Title != nil && *change.Title != newest.Facts.V.Title {
		if err := lib.retitle(ctx, newest, strings.TrimSpace(*change.Title), by); err != nil {
			return wire.World{}, err
		}
		w.Title = strings.TrimSpace(*change.Title)
	}
	if err := lib.records.SetWorld(ctx, w); err != nil {
		return wire.World{}, err
	}
	return lib.World(ctx, w.Name)
}

// cleanTags makes tags of what people write: without blanks around them, each once.
func cleanTags(in []string) ([]string, error) {
	out := []string{}
	for _, tag := range in {
		tag = strings.TrimSpace(tag)
		switch {
		case tag == "" || slices.Contains(out, tag):
		case len(tag) > 40 || strings.ContainsAny(tag, ",\r\n\t\x00"):
			return nil, fault.New(fault.Invalid, "tag", tag,
				"a tag is a word or two of at most 40 letters, without commas")
		default:
			out = append(out, tag)
		}
	}
	slices.Sort(out)
	return out, nil
}

// retitle makes a copy that differs from another one in its title alone.
func (lib *Library) retitle(ctx context.Context, of records.Copy, title, by string) error {
	stored, profile, err := lib.stored(ctx, of.ID)
	if err != nil {
		return err
	}
	w := of.Facts.V
	refused := func(err error) error { return fault.Wrap(fault.Invalid, "write the title of", of.World, err) }
	titled := -1
	_, after, err := fit.Input{Profile: profile, World: w}.WriteTitle(title, func(file string) ([]byte, error) {
		titled = slices.IndexFunc(stored.Files, func(f vault.File) bool { return f.Part == "" && f.Path == file })
		switch {
		case titled < 0:
			return nil, fmt.Errorf("the copy has no file %s", file)
		case stored.Files[titled].Size > fit.LongestTitled:
			return nil, fmt.Errorf("%s has more than %d bytes", file, fit.LongestTitled)
		}
		return io.ReadAll(lib.vault.Read(ctx, stored.Files[titled]))
	})
	if err != nil {
		return refused(err)
	}
	files := make([]vault.Source, len(stored.Files))
	for i, f := range stored.Files {
		files[i] = vault.Source{Part: f.Part, Path: f.Path, Modified: f.Modified, Known: f.Chunks, Sum: f.Sum}
		if !f.Dir() {
			files[i].Open = func() (io.ReadCloser, error) { return io.NopCloser(lib.vault.Read(ctx, f)), nil }
		}
	}
	files[titled].Known, files[titled].Sum, files[titled].Modified = nil, "", lib.now()
	files[titled].Open = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(after)), nil }
	made, err := lib.vault.Store(ctx, files, nil)
	if err != nil {
		return err
	}
	facts, err := lib.readCopy(ctx, made, w.Folder, w.Game)
	if err != nil {
		return err
	}
	if facts.Title != title {
		return refused(fmt.Errorf("it was written and reads as %q", facts.Title))
	}
	facts.Settings = w.Settings
	_, _, err = lib.records.AddCopy(ctx, records.Copy{
		ID: made.ID, WorldID: of.WorldID, Kind: "edited", Facts: records.JSON[world.Facts]{V: facts}, Bytes: made.Bytes,
		Files:  int64(len(made.Files)),
		Source: fmt.Sprintf("copy %s with another title", of.ID[:12]), CreatedBy: by, MadeOf: &of.ID,
	})
	return err
}

// readCopy reads what a stored copy says of itself; only "" is any game.
func (lib *Library) readCopy(ctx context.Context, c vault.Copy, folder, only string) (world.Facts, error) {
	lib.vault.Expect(ctx, c)
	var failed error
	for _, p := range lib.games.Profiles() {
		if only != "" && p.ID != only {
			continue
		}
		tree := lib.vault.Tree(ctx, c, func(part, name string) string {
			if part == "" {
				return path.Join(folder, name)
			}
			return path.Join(p.World.Realms[part].SplitFor(folder), name)
		})
		w, _, err := world.Inspect(tree, ".", folder, "", []*game.Profile{p})
		if err == nil {
			return w, nil
		}
		failed = err
	}
	return world.Facts{}, failed
}

// ChangeCopy records what a person says of a copy.
func (lib *Library) ChangeCopy(ctx context.Context, ref string, change wire.ChangeCopy, by string) (wire.Copy, error) {
	c, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return wire.Copy{}, err
	}
	if change.Note != nil {
		c.Note = strings.TrimSpace(*change.Note)
	}
	if change.Pinned != nil {
		c.Pinned = *change.Pinned
	}
	if change.Aside != nil && *change.Aside != (c.AsideAt != nil) {
		switch {
		case *change.Aside && c.Pinned:
			return wire.Copy{}, fault.New(fault.WrongState, "set aside", c.ID[:12], "the copy is pinned").
				With("Unpin it first: reshard worlds unpin " + c.ID[:12] + ".")
		case *change.Aside:
			now := lib.counted()
			c.AsideAt, c.AsideBy = &now, by
		default:
			c.AsideAt, c.AsideBy = nil, ""
		}
	}
	if c.Pinned && c.AsideAt != nil {
		return wire.Copy{}, fault.New(fault.WrongState, "pin", c.ID[:12], "the copy is set aside").
			With("Bring it back first: reshard worlds bring-back " + c.ID[:12] + ".")
	}
	if err := lib.records.SetCopy(ctx, c); err != nil {
		return wire.Copy{}, err
	}
	return lib.wireCopy(c), nil
}

// JoinWorlds makes the copies of one world those of another. Both must be of one game;
// a copy can be split off again.
func (lib *Library) JoinWorlds(ctx context.Context, ref, into string) (wire.World, error) {
	from, a, err := lib.worldRecord(ctx, ref)
	if err != nil {
		return wire.World{}, err
	}
	to, b, err := lib.worldRecord(ctx, into)
	if err != nil {
		return wire.World{}, err
	}
	switch {
	case from.ID == to.ID:
		return wire.World{}, fault.New(fault.Invalid, "join", from.Name, "it is one world already")
	case a.Facts.V.Game != b.Facts.V.Game:
		return wire.World{}, fault.New(fault.Invalid, "join", from.Name, "%s is a world of %s, and %s one of %s",
			from.Name, from.Game, to.Name, to.Game)
	}
	to.Tags.V, err = cleanTags(append(to.Tags.V, from.Tags.V...))
	if err != nil {
		return wire.World{}, err
	}
	to.Note = strings.TrimSpace(to.Note + "\n" + from.Note)
	if err := lib.records.Join(ctx, from, to); err != nil {
		return wire.World{}, err
	}
	return lib.World(ctx, to.Name)
}

// SplitCopy gives a copy a world of its own.
func (lib *Library) SplitCopy(ctx context.Context, ref string) (wire.World, error) {
	c, err := lib.records.FindCopy(ctx, ref)
	if err != nil {
		return wire.World{}, err
	}
	w, err := lib.World(ctx, c.World)
	if err != nil {
		return wire.World{}, err
	}
	if len(w.Copies) == 1 {
		return wire.World{}, fault.New(fault.WrongState, "split off", c.ID[:12], "it is the only copy of %s", c.World)
	}
	name, err := lib.records.Split(ctx, c)
	if err != nil {
		return wire.World{}, err
	}
	return lib.World(ctx, name)
}

// SayApart records that two worlds are not the same, so that it is not asked again.
func (lib *Library) SayApart(ctx context.Context, ref, other, by string) error {
	a, _, err := lib.worldRecord(ctx, ref)
	if err != nil {
		return err
	}
	b, _, err := lib.worldRecord(ctx, other)
	if err != nil {
		return err
	}
	if a.ID == b.ID {
		return fault.New(fault.Invalid, "tell apart", ref,
			"it is one world; reshard worlds split gives a copy a world of its own")
	}
	return lib.records.SayApart(ctx, a.ID, b.ID, by)
}

// sameEnough is the share of content, in percent, from which two worlds whose ids are
// not known are held to be states of one: with the same seed, and without.
const (
	sameWithSeed    = 10
	sameWithoutSeed = 50
)

// sameAs gives the worlds of the library that a copy may be a state of, the likeliest
// first: by the world's own id, else by what content they share. Nothing is joined.
func (lib *Library) sameAs(ctx context.Context, c records.Copy) ([]wire.SameWorld, error) {
	all, err := lib.records.Copies(ctx)
	if err != nil {
		return nil, err
	}
	apart, err := lib.records.Apart(ctx)
	if err != nil {
		return nil, err
	}
	mine, err := lib.vault.Load(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	out := []wire.SameWorld{}
	seen := map[int64]bool{c.WorldID: true}
	for _, other := range all {
		pair := [2]int64{min(c.WorldID, other.WorldID), max(c.WorldID, other.WorldID)}
		if seen[other.WorldID] || apart[pair] || other.AsideAt != nil || other.Facts.V.Game != c.Facts.V.Game {
			continue
		}
		seen[other.WorldID] = true // its newest copy is enough
		if why, share := lib.alike(ctx, c, other, mine); why != "" {
			out = append(out, wire.SameWorld{World: other.World, Title: other.Facts.V.Title, Why: why, Share: share})
		}
	}
	slices.SortStableFunc(out, func(a, b wire.SameWorld) int { return b.Share - a.Share })
	return out, nil
}

func (lib *Library) alike(ctx context.Context, c, other records.Copy, mine vault.Copy) (why string, share int) {
	known := func(name string) (a, b string, both bool) {
		fa, fb := c.Facts.V.Fact(name), other.Facts.V.Fact(name)
		return fa.Text, fb.Text, fa.Known() && fb.Known() && fa.Text != "" && fb.Text != ""
	}
	id, otherID, ids := known("world-id")
	seed, otherSeed, seeds := known("seed")
	if ids && id != otherID || !ids && seeds && seed != otherSeed {
		return "", 0
	}
	if theirs, err := lib.vault.Load(ctx, other.ID); err == nil {
		share = shared(mine, theirs)
	}
	switch {
	case ids:
		return fmt.Sprintf("it has the same world id, and %d %% of the content is the same", share), share
	case seeds && share >= sameWithSeed:
		return fmt.Sprintf("it has the same seed, and %d %% of the content is the same", share), share
	case !seeds && share >= sameWithoutSeed:
		return fmt.Sprintf("%d %% of the content is the same", share), share
	}
	return "", 0
}

// shared gives the percentage of the smaller copy's bytes that the other one has too.
func shared(a, b vault.Copy) int {
	chunks := map[string]int64{}
	for _, f := range a.Files {
		for _, c := range f.Chunks {
			chunks[c.Hash] = c.Size
		}
	}
	var common int64
	for _, f := range b.Files {
		for _, c := range f.Chunks {
			common += chunks[c.Hash]
			delete(chunks, c.Hash)
		}
	}
	return int(min(100, 100*common/max(1, min(a.Bytes, b.Bytes))))
}

// Lineage tells where a world's copies came from and where they went.
func (lib *Library) Lineage(ctx context.Context, ref string) (wire.Lineage, error) {
	w, _, err := lib.worldRecord(ctx, ref)
	if err != nil {
		return wire.Lineage{}, err
	}
	copies, err := lib.records.CopiesOf(ctx, w.ID)
	if err != nil {
		return wire.Lineage{}, err
	}
	out := wire.Lineage{World: w.Name, Steps: []wire.LineageStep{}}
	for _, c := range copies {
		out.Steps = append(out.Steps, pastOf(c))
	}
	journeys, err := lib.records.Journeys(ctx, w.ID)
	if err != nil {
		return wire.Lineage{}, err
	}
	for _, j := range journeys {
		p := wire.LineageStep{
			What:       "brought",
			Copy:       j.CopyID,
			Server:     j.Server,
			Changeover: j.ID,
			Kind:       j.Kind,
			State:      j.State,
		}
		if j.EndedAt != nil {
			p.At = *j.EndedAt
		} else {
			p.At = lib.now()
		}
		p.Say = map[bool]string{
			true:  "brought onto " + j.Server,
			false: fmt.Sprintf("was to be brought onto %s (%s)", j.Server, j.State),
		}[j.State == "done"]
		out.Steps = append(out.Steps, p)
	}
	slices.SortStableFunc(out.Steps, func(a, b wire.LineageStep) int { return a.At.Compare(b.At) })
	return out, nil
}

func pastOf(c records.Copy) wire.LineageStep {
	p := wire.LineageStep{
		At:     c.CreatedAt,
		Copy:   c.ID,
		By:     c.CreatedBy,
		Source: c.Source,
		What:   "arrived",
		Say:    "arrived: " + c.Source,
	}
	if c.MadeOf != nil {
		p.Of = *c.MadeOf
	}
	if c.ChangeoverID != nil {
		p.Changeover = *c.ChangeoverID
	}
	switch {
	case c.Kind == "edited":
		p.What, p.Say = "edited", c.Source
	case c.Server != nil:
		p.What, p.Server, p.Say = "taken", *c.Server, "taken from "+*c.Server
		if p.Of != "" {
			p.Say += ", where copy " + p.Of[:12] + " had been brought"
		}
	case c.Kind != "arrival":
		p.What, p.Say = "taken", "taken: "+c.Source
	}
	return p
}

// Tidy marks copies as gone that have been set aside for long enough.
func (lib *Library) Tidy(ctx context.Context) (gone int, err error) {
	if lib.keepAside <= 0 {
		return 0, nil
	}
	ids, err := lib.records.CopiesGone(ctx, lib.counted().Add(-lib.keepAside))
	for _, id := range ids {
		lib.log.Info("a copy that was set aside is gone", "copy", id)
	}
	return len(ids), err
}
