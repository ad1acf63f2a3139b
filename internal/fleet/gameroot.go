package fleet

import (
	"context"
	"path"
	"slices"
	"strings"

	"reshard/internal/core/game"
	"reshard/internal/observe"
	"reshard/internal/records"
)

// learnRoot takes from a server's log by which name the game itself knows the server's folder,
// where an account sees it by another one and nobody has said so.
func (fl *Fleet) learnRoot(ctx context.Context, l *Server, rec records.Server, h *observe.Heads) {
	if rec.GameRoot != "" || !l.Files.Distant() {
		return
	}
	root := gameRootOf(h.Status.Opened, l.Machine.Roots, h.State.WorldsFolder, h.State.Active, l.Profile)
	if root == "" {
		return
	}
	release, err := l.Claim("reach")
	if err != nil {
		return // something is at work on it: the next look learns it
	}
	defer release()
	rec.GameRoot = root
	if err = fl.records.ChangeServer(ctx, rec); err == nil {
		err = fl.LetGo(l)
	}
	if err != nil {
		fl.Log.Warn("the game's own name of a server's folder was not kept", "server", rec.Name, "error", err)
		return
	}
	fl.Log.Info("the log names the server's folder", "server", rec.Name, "folder", root)
	fl.Refresh(ctx, rec.Name)
}

// gameRootOf gives the folder below which a log says that the active world was opened, when that
// is none of the names of the server's folder; "" when the log does not tell.
func gameRootOf(opened string, roots []string, worlds, active string, p *game.Profile) string {
	opened = strings.ReplaceAll(opened, `\`, "/")
	if active == "" || !path.IsAbs(opened) {
		return ""
	}
	opened = path.Clean(opened)
	for _, name := range slices.Compact([]string{active, p.World.FileName(active)}) {
		root, ok := strings.CutSuffix(opened, "/"+path.Join(worlds, name))
		if ok && root != "" && !slices.Contains(roots, root) {
			return root
		}
	}
	return ""
}
