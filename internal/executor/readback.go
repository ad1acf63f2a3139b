package executor

import (
	"errors"
	"io/fs"
	"slices"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/plan"
	"reshard/internal/core/server"
	"reshard/internal/core/settings"
)

// writtenKey is a key that the plan has written, with its last value.
type writtenKey struct {
	plan.Edit
	file   string
	syntax settings.Syntax
}

// writtenKeys lists the keys that the plan has written into the server's own settings.
func (r *Runner) writtenKeys(folder string) (keys []writtenKey) {
	for n, s := range r.job.Plan.Steps {
		if s.Kind != plan.Write || s.Server != "" || r.job.Steps[n].State != plan.StepDone {
			continue
		}
		for _, e := range s.Edits {
			if e.Opened != "" {
				given := server.Given{Writes: e.Opened, Value: e.Was}
				e.Value = server.ValueFor(given, r.job.Plan.Worlds, folder, r.Profile)
			}
			k := writtenKey{e, s.File, s.Syntax}
			same := func(o writtenKey) bool { return o.file == s.File && o.Key == e.Key }
			keys = append(slices.DeleteFunc(keys, same), k)
		}
	}
	return keys
}

// written reads every key back that the plan has written. Something may have put an old value back between the write
// and the start: a provider's page, another tool, the game itself. A different world's name refutes the proof, and so
// does a key of which the profile says that the game keeps it. Other differences are only reported: games consume
// seeds and rewrite values.
func (p *prover) written() (checks []plan.Check, err error) {
	docs := map[string]*settings.Document{}
	for _, k := range p.r.writtenKeys(p.expect.Folder) {
		doc, read := docs[k.file]
		if !read {
			if doc, err = p.document(k); err != nil {
				return checks, err
			}
			docs[k.file] = doc
		}
		checks = append(checks, p.readBack(k, doc))
	}
	return checks, nil
}

// document reads a settings file; nil when it is not there, or cannot be read as one.
func (p *prover) document(k writtenKey) (*settings.Document, error) {
	data, err := p.r.Files.ReadFile(p.ctx, k.file, longestSettings)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil && fault.Passing(err):
		return nil, err
	case err != nil:
		return nil, nil
	}
	doc, err := settings.Parse(k.file, k.syntax, data)
	if err != nil {
		return nil, nil //nolint:nilerr // what the check says
	}
	return doc, nil
}

func (p *prover) readBack(k writtenKey, doc *settings.Document) plan.Check {
	c := plan.Check{What: k.Key + " in " + k.file, Expected: k.Value, Seen: "the file cannot be read"}
	now, found := "", false
	if doc != nil {
		c.Seen = "not set"
		if entry, ok := doc.Get(k.Key); ok {
			now, found, c.Seen = entry.Value, true, entry.Value
		}
	}
	if found {
		c.OK = now == k.Value || k.World != "" && p.sameWorld(k, now)
	}
	if c.OK { // it shows what the files say, not what runs
		c.Aside = true
		return c
	}
	if found && now == k.Was {
		c.Seen += " again"
	}
	if info, err := fs.Stat(p.files, k.file); err == nil && found {
		c.Seen += "; something wrote it at " + info.ModTime().UTC().Format("15:04:05 MST")
	}
	switch {
	case k.World != "":
		c.Next = "If your provider's page has a field for the world's name, set it to " + p.expect.Folder + " first."
	case k.Keeps:
		c.Next = "Find out what changes " + k.Key + ". If it is the game, its profile must not say keeps."
	default:
		c.Aside = true // it is only reported
	}
	return c
}

// sameWorld reports whether a value names the same world as the one that was written, in another way.
func (p *prover) sameWorld(k writtenKey, now string) bool {
	folder := func(value string) string {
		return server.FolderOf(server.Given{Key: k.Key, Value: value, Writes: k.World}, p.r.Profile)
	}
	return folder(now) == folder(k.Value)
}

// otherLocks shows that no other world was opened: a lock in one that was not there right before the switch, or that
// was written since, is the running game's.
func (p *prover) otherLocks() []plan.Check {
	if len(p.r.Profile.World.Locks) == 0 || p.r.job.Before == nil {
		return nil
	}
	names, err := p.r.inWorlds(p.ctx)
	if err != nil {
		return nil // noStray looks there too, and says so
	}
	names = slices.DeleteFunc(names, func(n string) bool { return n == p.expect.Folder })
	for file, at := range p.r.locks(p.files, names) {
		if was, ok := p.r.job.Before.Locks[file]; !ok || !was.Equal(at) {
			world, _, _ := strings.Cut(strings.TrimPrefix(file, p.r.job.Plan.Worlds+"/"), "/")
			return []plan.Check{{
				What: "no other world is open", Expected: "no lock", Seen: file,
				Next: "The game has " + world + " open. Check what sets its world's name.",
			}}
		}
	}
	return []plan.Check{{What: "no other world is open", Expected: "no lock", Seen: "no lock", OK: true, Aside: true}}
}
