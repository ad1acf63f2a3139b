package api

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/control"
	"reshard/internal/core/fault"
	"reshard/internal/core/fit"
	"reshard/internal/wire"
)

type serverInput struct {
	Server string `path:"server"`
}

func (a *API) serverRoutes() {
	huma.Register(a.huma, op("list-servers", http.MethodGet, "/servers", "List servers with their states", "servers"), func(ctx context.Context, _ *struct{}) (*answer[[]wire.Server], error) {
		servers, err := a.service.Servers(ctx)
		return &answer[[]wire.Server]{servers}, a.failed(err)
	})
	huma.Register(a.huma, op("add-server", http.MethodPost, "/servers", "Add a server of this host. Its command runs with the rights of the service", "servers"), func(ctx context.Context, in *struct{ Body wire.NewServer }) (*answer[wire.ServerFacts], error) {
		s, err := a.service.AddServer(ctx, in.Body)
		return &answer[wire.ServerFacts]{s}, a.failed(err)
	})
	for _, c := range []struct {
		id, method, path, summary string
		do                        func(context.Context, string) (wire.ServerFacts, error)
	}{
		{"get-server", http.MethodGet, "", "Get a server with what its files say", func(ctx context.Context, n string) (wire.ServerFacts, error) { return a.service.Server(ctx, n) }},
		{"start-server", http.MethodPost, "/start", "Start a server and wait until it is ready", func(ctx context.Context, n string) (wire.ServerFacts, error) { return a.service.StartServer(ctx, n) }},
		{"stop-server", http.MethodPost, "/stop", "Stop a server cleanly and wait for its end; it is never killed", func(ctx context.Context, n string) (wire.ServerFacts, error) { return a.service.StopServer(ctx, n) }},
	} {
		huma.Register(a.huma, op(c.id, c.method, "/servers/{server}"+c.path, c.summary, "servers"), func(ctx context.Context, in *serverInput) (*answer[wire.ServerFacts], error) {
			s, err := c.do(ctx, in.Server)
			return &answer[wire.ServerFacts]{s}, a.failed(err)
		})
	}
	huma.Register(a.huma, op("remove-server", http.MethodDelete, "/servers/{server}", "Forget a stopped server; its files stay where they are", "servers"), func(ctx context.Context, in *serverInput) (*struct{}, error) {
		return nil, a.failed(a.service.RemoveServer(ctx, in.Server))
	})
	huma.Register(a.huma, streams[[]control.Line](a.huma, op("follow-log", http.MethodGet, "/servers/{server}/log", "Follow a server's log: an event a batch of lines", "servers")), func(ctx context.Context, in *struct {
		Server string `path:"server"`
		Last   int    `query:"last" default:"200" minimum:"0" maximum:"5000" doc:"lines to begin with"`
	}) (*huma.StreamResponse, error) {
		if _, err := a.service.Server(ctx, in.Server); err != nil {
			return nil, a.failed(err)
		}
		return stream(func(hctx huma.Context, e *events) {
			err := a.service.FollowLog(hctx.Context(), in.Server, in.Last, func(lines []control.Line) error {
				if lines == nil {
					lines = []control.Line{}
				}
				return e.send("lines", lines)
			})
			if err != nil {
				a.log.Debug("log stream ended", "error", err)
			}
		}), nil
	})
	huma.Register(a.huma, op("fit", http.MethodGet, "/fit", "Make the fit sheet of a world and a server, or of a server alone", "changeovers"), func(ctx context.Context, in *struct {
		World  string   `query:"world" doc:"left out: the server is checked alone, with the world that it has"`
		Server string   `query:"server" required:"true"`
		Choose []string `query:"choose,explode" doc:"answers as key=value, such as folder-name=fen-garden"`
	}) (*answer[wire.Sheet], error) {
		choices, err := choicesOf(in.Choose)
		if err != nil {
			return nil, a.failed(err)
		}
		if in.World == "" {
			sheet, err := a.service.CheckServer(ctx, in.Server)
			return &answer[wire.Sheet]{sheet}, a.failed(err)
		}
		sheet, err := a.service.Fit(ctx, in.World, in.Server, choices)
		return &answer[wire.Sheet]{sheet}, a.failed(err)
	})
}

func choicesOf(pairs []string) (fit.Choices, error) {
	out := fit.Choices{}
	for _, p := range pairs {
		k, v, ok := strings.Cut(p, "=")
		if !ok {
			return nil, fault.New(fault.Invalid, "choose", p, "a choice is written key=value")
		}
		out[k] = v
	}
	return out, nil
}
