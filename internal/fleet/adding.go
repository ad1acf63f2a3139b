package fleet

import (
	"context"
	"path"
	"regexp"
	"strings"

	"reshard/internal/core/fault"
	"reshard/internal/core/server"
	"reshard/internal/host"
	"reshard/internal/records"
	"reshard/internal/wire"
)

var serverName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// MayLookAt refuses what is no server's and no world's on the service's own machine: what
// belongs to the system, or to the service itself. Of a file its folder counts.
func (fl *Fleet) MayLookAt(name string) error {
	h, err := fl.host("local")
	if err != nil {
		return err
	}
	ctx := context.Background()
	root, _, err := h.Root(ctx, name)
	if root == "" && err != nil {
		root, _, err = h.Root(ctx, path.Dir(name))
	}
	if root == "" {
		return nil // it is not there, which is told by whoever looks
	}
	return err
}

// means are how a server is to be controlled: as a person says, else as its host allows.
func means(h *openHost, op string, n wire.NewServer) (server.Means, error) {
	if e, ok := h.Driver.(host.Elsewhere); ok {
		if n.Control.By == "" && n.Control.Machine != "" {
			n.Control.By = server.ByProvider
		}
		if n.Control.By == server.ByProvider {
			return n.Control, byProvider(h, op, n)
		}
		return e.Means(n.Name, n.Control, n.Command)
	}
	if n.Control.By != "" && n.Control.By != server.ByProcess {
		return n.Control, fault.New(fault.Unsupported, op, n.Name,
			"a server of the service's own machine is a process of the service, and is controlled in no other way")
	}
	if len(n.Command) == 0 {
		return n.Control, fault.New(fault.Invalid, op, n.Name, "the command that starts it is missing")
	}
	return n.Control, nil
}

// byProvider is an error unless a server can be controlled by its host's provider.
func byProvider(h *openHost, op string, n wire.NewServer) error {
	switch {
	case h.rec.Provider.V == nil:
		return fault.New(fault.Invalid, op, n.Name, "of the host %s no provider's interface is known", h.rec.Name).
			With("Tell of it first: reshard hosts provider " + h.rec.Name + " --help.")
	case h.provider == nil:
		return h.providerErr
	case n.Control.Machine == "":
		return fault.New(fault.Invalid, op, n.Name, "what %s calls the server is missing", h.provider.Title()).
			With("Give it: --machine ID.")
	}
	return nil
}

// Add records a server of a host after looking at its folder.
func (fl *Fleet) Add(ctx context.Context, n wire.NewServer) (wire.ServerFacts, error) {
	bad := func(format string, args ...any) (wire.ServerFacts, error) {
		return wire.ServerFacts{}, fault.New(fault.Invalid, "add server", n.Name, format, args...)
	}
	if !serverName.MatchString(n.Name) {
		return bad("a server's name has 1 to 40 of a-z, 0-9 and hyphen")
	}
	profile, err := fl.games.Profile(n.Game)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	if n.Kind == "" && len(profile.Server.Kinds) == 1 {
		n.Kind = profile.KindNames()[0]
	}
	if _, ok := profile.Server.Kinds[n.Kind]; !ok {
		return bad("%s servers are of the kinds %s; %q is none of them", profile.Title,
			strings.Join(profile.KindNames(), ", "), n.Kind)
	}
	if n.Host == "" {
		n.Host = "local"
	}
	h, err := fl.host(n.Host)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	root, _, err := h.Root(ctx, n.Root)
	if err != nil {
		return wire.ServerFacts{}, fault.Wrap(fault.Invalid, "add server", n.Name, err)
	}
	n.Root = root
	if n.Control, err = means(h, "add server", n); err != nil {
		return wire.ServerFacts{}, err
	}
	if n.Command == nil {
		n.Command = []string{}
	}
	if r, ok := h.Driver.(host.Runner); ok {
		if err := r.Program(ctx, n.Root, n.Command); err != nil {
			return wire.ServerFacts{}, err
		}
	}
	if n.Env == nil {
		n.Env = map[string]string{}
	}
	rec := records.Server{
		Name: n.Name, Host: n.Host, Game: n.Game, Kind: n.Kind, System: n.System, Root: n.Root,
		DeclaredVersion: n.Version,
		GameRoot:        n.GameRoot, Means: records.JSON[server.Means]{V: n.Control},
		Command: records.JSON[[]string]{V: n.Command}, Env: records.JSON[map[string]string]{V: n.Env},
	}
	if _, err := fl.records.AddServer(ctx, rec); err != nil {
		return wire.ServerFacts{}, err
	}
	if found := h.rec.Found.V; found != nil && found.ReadOnly { // the account may well write in the server's folder
		if _, err := fl.CheckHost(ctx, n.Host, func(string) {}); err != nil {
			fl.log.Warn("a host was not checked again", "host", n.Host, "error", err)
		}
	}
	return fl.Server(ctx, n.Name)
}

// Change changes how a server is controlled. Nothing may be at work on it.
func (fl *Fleet) Change(ctx context.Context, name string, c wire.ServerChange) (wire.ServerFacts, error) {
	rec, err := fl.records.Server(ctx, name)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	h, err := fl.host(rec.Host)
	if err != nil {
		return wire.ServerFacts{}, err
	}
	if len(c.Command) > 0 {
		rec.Command.V = c.Command
	}
	rec.GameRoot = c.GameRoot
	rec.Means.V, err = means(h, "change server", wire.NewServer{Name: name, Control: c.Control, Command: rec.Command.V})
	if err != nil {
		return wire.ServerFacts{}, err
	}
	err = fl.operate(ctx, name, "change", func(ctx context.Context, l *Server) error {
		if err := fl.records.ChangeServer(ctx, rec); err != nil {
			return err
		}
		return fl.LetGo(l)
	})
	if err != nil {
		return wire.ServerFacts{}, err
	}
	return fl.Server(ctx, name)
}
