package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/wire"
)

type hostInput struct {
	Host string `path:"host"`
}

func (a *API) hostRoutes() {
	huma.Register(a.huma, op("list-hosts", http.MethodGet, "/hosts",
		"List the machines and accounts where servers live", "hosts"),
		func(ctx context.Context, _ *struct{}) (*answer[[]wire.Host], error) {
			list, err := a.service.Fleet.Hosts(ctx)
			return &answer[[]wire.Host]{list}, a.failed(err)
		})
	huma.Register(a.huma, op("add-host", http.MethodPost, "/hosts",
		"Add an account on another machine, once it was signed in to. Without acceptKey the answer is a problem with "+
			"code "+
			"needs-choice, whose one option is the fingerprint of the key that the host shows", "hosts"),
		func(ctx context.Context, in *struct{ Body wire.NewHost }) (*answer[wire.Host], error) {
			h, err := a.service.Fleet.AddHost(ctx, in.Body)
			return &answer[wire.Host]{h}, a.failed(err)
		})
	huma.Register(a.huma, op("get-host", http.MethodGet, "/hosts/{host}", "Get a host", "hosts"),
		func(ctx context.Context, in *hostInput) (*answer[wire.Host], error) {
			h, err := a.service.Fleet.Host(ctx, in.Host)
			return &answer[wire.Host]{h}, a.failed(err)
		})
	huma.Register(a.huma, op("change-host", http.MethodPatch, "/hosts/{host}",
		"Change how a host is reached or signed in to, or forget what it is signed in with. It is tried before it is "+
			"kept",
		"hosts"), func(
		ctx context.Context, in *struct {
			Host string `path:"host"`
			Body wire.HostChange
		}) (*answer[wire.Host], error) {
		h, err := a.service.Fleet.ChangeHost(ctx, in.Host, in.Body)
		return &answer[wire.Host]{h}, a.failed(err)
	})
	huma.Register(a.huma, op("check-host", http.MethodPost, "/hosts/{host}/check",
		"Find out what can be done on a host, by trying it in a folder that is removed again, and keep what is found",
		"hosts"),
		func(ctx context.Context, in *hostInput) (*answer[wire.Host], error) {
			h, err := a.service.Fleet.CheckHost(ctx, in.Host, func(string) {})
			return &answer[wire.Host]{h}, a.failed(err)
		})
	huma.Register(a.huma, op("set-provider", http.MethodPut, "/hosts/{host}/provider",
		"Record the provider's own interface of a host, by a provider description, or forget it", "hosts"), func(
		ctx context.Context, in *struct {
			Host string `path:"host"`
			Body wire.NewProvider
		}) (*answer[wire.Host], error) {
		h, err := a.service.Fleet.SetProvider(ctx, in.Host, in.Body)
		return &answer[wire.Host]{h}, a.failed(err)
	})
	huma.Register(a.huma, op("try-provider", http.MethodGet, "/hosts/{host}/provider/try",
		"Look whether a server can be seen by its provider's own interface; nothing is changed", "hosts"), func(
		ctx context.Context, in *struct {
			Host    string `path:"host"`
			Machine string `query:"machine" required:"true" doc:"what the provider calls the server"`
		}) (*answer[[]wire.Tried], error) {
		tried, err := a.service.Fleet.TryProvider(ctx, in.Host, in.Machine)
		return &answer[[]wire.Tried]{tried}, a.failed(err)
	})
	huma.Register(a.huma, op("remove-host", http.MethodDelete, "/hosts/{host}",
		"Forget a host on which no servers are, with what it is signed in with", "hosts"),
		func(ctx context.Context, in *hostInput) (*struct{}, error) {
			return nil, a.failed(a.service.Fleet.RemoveHost(ctx, in.Host))
		})
}
