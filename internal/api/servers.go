package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/core/fault"
	"reshard/internal/core/life"
	"reshard/internal/core/plan"
	"reshard/internal/wire"
)

type serverInput struct {
	Server string `path:"server"`
}

// orNone is what was sent, or the zero value where nothing was.
func orNone[T any](sent *T) (out T) {
	if sent != nil {
		out = *sent
	}
	return out
}

func (a *API) serverRoutes() {
	huma.Register(a.huma, op("list-servers", http.MethodGet, "/servers",
		"List servers as they are known: each is looked at in the background", "servers"),
		func(ctx context.Context, in *wire.ServerQuery) (*page[wire.Server], error) {
			list, next, err := a.service.Fleet.List(ctx, *in)
			return paged("/servers", *in, list, next), a.failed(err)
		})
	huma.Register(a.huma, op("add-server", http.MethodPost, "/servers",
		"Add a server of a host. On the service's own machine its command runs with the rights of the service",
		"servers"),
		func(ctx context.Context, in *struct{ Body wire.NewServer }) (*answer[wire.ServerFacts], error) {
			s, err := a.service.Fleet.Add(ctx, in.Body)
			return &answer[wire.ServerFacts]{s}, a.failed(err)
		})
	huma.Register(a.huma, op("get-server", http.MethodGet, "/servers/{server}", "Get a server with what its files say",
		"servers"),
		func(ctx context.Context, in *serverInput) (*answer[wire.ServerFacts], error) {
			s, err := a.service.Fleet.Server(ctx, in.Server)
			return &answer[wire.ServerFacts]{s}, a.failed(err)
		})
	huma.Register(a.huma, op("start-server", http.MethodPost, "/servers/{server}/start",
		"Start a server and wait until it is ready. Code needs-choice: the world is not there that its settings name, "+
			"and it would make a new one", "servers"),
		func(ctx context.Context, in *struct {
			Server string `path:"server"`
			Body   *wire.StartServer
		}) (*answer[wire.ServerFacts], error) {
			s, err := a.service.Fleet.Start(ctx, in.Server, orNone(in.Body))
			return &answer[wire.ServerFacts]{s}, a.failed(err)
		})
	huma.Register(a.huma, op("stop-server", http.MethodPost, "/servers/{server}/stop",
		"Stop a server cleanly and wait for its end. Players are told where the game can, and what a stop would lose "+
			"is saved before; it is never killed", "servers"),
		func(ctx context.Context, in *struct {
			Server string `path:"server"`
			Body   *wire.StopServer
		}) (*answer[wire.ServerFacts], error) {
			s, err := a.service.Fleet.Stop(ctx, in.Server, orNone(in.Body))
			return &answer[wire.ServerFacts]{s}, a.failed(err)
		})
	huma.Register(a.huma, op("say-server-stopped", http.MethodPost, "/servers/{server}/stopped",
		"Say that a server is stopped of which that cannot be told. Your word stands in for it, is named in proofs, "+
			"and counts until the server can be seen again. Code needs-choice: signs say that it runs",
		"servers"), func(ctx context.Context, in *struct {
		Server string `path:"server"`
		Body   *wire.SayStopped
	}) (*answer[wire.ServerFacts], error) {
		s, err := a.service.Fleet.TakeWord(ctx, in.Server, userOf(ctx), life.Stopped, orNone(in.Body).DespiteSigns)
		return &answer[wire.ServerFacts]{s}, a.failed(err)
	})
	huma.Register(a.huma, op("say-server-started", http.MethodPost, "/servers/{server}/started",
		"Say that a server runs that only people can see. Your word is named in proofs", "servers"), func(
		ctx context.Context, in *serverInput) (*answer[wire.ServerFacts], error) {
		s, err := a.service.Fleet.TakeWord(ctx, in.Server, userOf(ctx), life.Running, false)
		return &answer[wire.ServerFacts]{s}, a.failed(err)
	})
	huma.Register(a.huma, op("intend-world", http.MethodPost, "/servers/{server}/intended",
		"Say that a server runs the world that it should, after somebody switched it in the game or in its settings. "+
			"The alert ends. Code changed: another world than the given one is seen", "servers"), func(
		ctx context.Context, in *struct {
			Server string `path:"server"`
			Body   *wire.IntendWorld
		}) (*answer[wire.ServerFacts], error) {
		s, err := a.service.Fleet.Intend(ctx, in.Server, orNone(in.Body), userOf(ctx))
		return &answer[wire.ServerFacts]{s}, a.failed(err)
	})
	huma.Register(a.huma, op("change-server", http.MethodPatch, "/servers/{server}",
		"Change how a server is controlled", "servers"), func(
		ctx context.Context, in *struct {
			Server string `path:"server"`
			Body   wire.ServerChange
		}) (*answer[wire.ServerFacts], error) {
		s, err := a.service.Fleet.Change(ctx, in.Server, in.Body)
		return &answer[wire.ServerFacts]{s}, a.failed(err)
	})
	huma.Register(a.huma, op("remove-server", http.MethodDelete, "/servers/{server}",
		"Forget a stopped server; its files stay where they are", "servers"),
		func(ctx context.Context, in *serverInput) (*struct{}, error) {
			return nil, a.failed(a.service.Fleet.Remove(ctx, in.Server))
		})
	a.slotRoutes()
	huma.Register(a.huma, picture(
		op("get-server-picture", http.MethodGet, "/servers/{server}/picture",
			"Get a world of a server from above, as it stands now", "servers")), func(
		ctx context.Context, in *struct {
			Server string `path:"server"`
			World  string `query:"world" doc:"its name on disk; the active one if left out"`
		}) (*pictureAnswer, error) {
		return a.pictured(a.service.Fleet.Picture(ctx, in.Server, in.World))
	})
	huma.Register(a.huma, streams[[]wire.LogLine](a.huma,
		op("follow-log", http.MethodGet, "/servers/{server}/log", "Follow a server's log: an event a batch of lines",
			"servers")), func(
		ctx context.Context, in *struct {
			Server string `path:"server"`
			Last   int    `query:"last" default:"200" minimum:"0" maximum:"5000" doc:"lines to begin with"`
		}) (*huma.StreamResponse, error) {
		if _, err := a.service.Fleet.Server(ctx, in.Server); err != nil {
			return nil, a.failed(err)
		}
		return a.stream(ctx, func(hctx huma.Context, e *events) {
			err := a.service.Fleet.FollowLog(hctx.Context(), in.Server, in.Last, func(lines []wire.LogLine) error {
				if lines == nil {
					lines = []wire.LogLine{}
				}
				return e.send("lines", lines)
			})
			if err != nil {
				a.log.Debug("log stream ended", "error", err)
			}
		})
	})
	a.asideRoutes()
	a.hostRoutes()
	huma.Register(a.huma, op("fit", http.MethodGet, "/fit",
		"Make the fit sheet of a world and a server, or of a server alone", "changeovers"),
		func(ctx context.Context, in *fitInput) (*answer[wire.Sheet], error) {
			sheet, err := a.fit(ctx, in)
			return &answer[wire.Sheet]{sheet}, a.failed(err)
		})
}

// asideRoutes are about what changeovers have set aside.
func (a *API) asideRoutes() {
	huma.Register(a.huma, op("list-aside", http.MethodGet, "/servers/{server}/aside",
		"List what changeovers have set aside on a server, with size, age and the rule that removes it", "servers"),
		func(ctx context.Context, in *serverInput) (*answer[[]wire.Aside], error) {
			list, err := a.service.Changeovers.Aside(ctx, in.Server)
			return &answer[[]wire.Aside]{list}, a.failed(err)
		})
	huma.Register(a.huma, op("tidy-aside", http.MethodDelete, "/servers/{server}/aside/{changeover}",
		"Remove what a changeover has set aside, for good", "servers"), func(ctx context.Context, in *struct {
		Server     string `path:"server"`
		Changeover string `path:"changeover" doc:"its number; of an unknown one the name of its folder"`
		Confirm    string `query:"confirm" required:"true" doc:"its name as it is listed, typed by a person"`
	}) (*answer[wire.Aside], error) {
		gone, err := a.service.Changeovers.Tidy(ctx, in.Server, in.Changeover, in.Confirm, userOf(ctx))
		return &answer[wire.Aside]{gone}, a.failed(err)
	})
	huma.Register(a.huma, op("keep-aside", http.MethodPost, "/servers/{server}/aside/{folder}/keep",
		"Keep a folder of a changeover that is not on record as it is: its alert ends", "servers"),
		func(ctx context.Context, in *struct {
			Server string `path:"server"`
			Folder string `path:"folder"`
		}) (*answer[wire.Aside], error) {
			kept, err := a.service.Changeovers.KeepFolder(ctx, in.Server, in.Folder, userOf(ctx))
			return &answer[wire.Aside]{kept}, a.failed(err)
		})
}

// fitInput is a wish in an address.
type fitInput struct {
	wire.Wish
	Choose []string `query:"choose,explode" doc:"answers as key=value, such as folder-name=fen-garden"`
}

// fit makes the sheet of a wish; of a server alone when neither kind nor world is said.
func (a *API) fit(ctx context.Context, in *fitInput) (wire.Sheet, error) {
	wish := in.Wish
	var err error
	if wish.Choices, err = choicesOf(in.Choose); err != nil {
		return wire.Sheet{}, err
	}
	switch {
	case wish.World == "" && wish.Kind == "" && wish.Server != "":
		return a.service.Fleet.Check(ctx, wish.Server)
	case wish.Kind == "":
		wish.Kind = plan.Put
	}
	return a.service.Changeovers.Sheet(ctx, wish)
}

func choicesOf(pairs []string) (map[string]string, error) {
	out := map[string]string{}
	for _, p := range pairs {
		k, v, ok := strings.Cut(p, "=")
		if !ok {
			return nil, fault.New(fault.Invalid, "choose", p, "a choice is written key=value")
		}
		out[k] = v
	}
	return out, nil
}

// slotRoutes are about a provider's own backups.
func (a *API) slotRoutes() {
	for _, c := range []struct {
		id, method, summary string
		do                  func(context.Context, string) (wire.Slots, error)
	}{
		{
			"list-slots", http.MethodGet, "List the provider's own backups of a server",
			func(ctx context.Context, n string) (wire.Slots, error) { return a.service.Fleet.Slots(ctx, n) },
		},
		{
			"make-slot", http.MethodPost, "Have the provider make a backup of its own, and wait until that is done",
			func(ctx context.Context, n string) (wire.Slots, error) { return a.service.Fleet.MakeSlot(ctx, n) },
		},
	} {
		huma.Register(a.huma, op(c.id, c.method, "/servers/{server}/slots", c.summary, "servers"),
			func(ctx context.Context, in *serverInput) (*answer[wire.Slots], error) {
				s, err := c.do(ctx, in.Server)
				return &answer[wire.Slots]{s}, a.failed(err)
			})
	}
	huma.Register(a.huma, op("remove-slot", http.MethodDelete, "/servers/{server}/slots/{backup}",
		"Have the provider remove one of its own backups; nobody can bring it back", "servers"), func(
		ctx context.Context, in *struct {
			Server string `path:"server"`
			Backup string `path:"backup"`
		}) (*answer[wire.Slots], error) {
		s, err := a.service.Fleet.RemoveSlot(ctx, in.Server, in.Backup)
		return &answer[wire.Slots]{s}, a.failed(err)
	})
}
