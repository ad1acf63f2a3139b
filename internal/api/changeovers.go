package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/wire"
)

type changeoverInput struct {
	ID int64 `path:"id"`
}

func (a *API) changeoverRoutes() {
	huma.Register(a.huma, op("draft-changeover", http.MethodPost, "/changeovers",
		"Work out a changeover; nothing is touched until it is started", "changeovers"),
		func(ctx context.Context, in *struct{ Body wire.Wish }) (*answer[wire.Changeover], error) {
			c, err := a.service.Changeovers.Draft(ctx, in.Body, userOf(ctx))
			return &answer[wire.Changeover]{c}, a.failed(err)
		})
	huma.Register(a.huma, op("list-changeovers", http.MethodGet, "/changeovers", "List changeovers, newest first",
		"changeovers"), func(ctx context.Context, in *wire.ChangeoverQuery) (*page[wire.Changeover], error) {
		list, next, err := a.service.Changeovers.List(ctx, *in)
		return paged("/changeovers", *in, list, next), a.failed(err)
	})
	for _, c := range []struct {
		id, method, path, summary string
		do                        func(context.Context, int64) (wire.Changeover, error)
	}{
		{
			"get-changeover",
			http.MethodGet,
			"",
			"Get a changeover with plan, steps, proof and stop window",
			func(ctx context.Context, id int64) (wire.Changeover, error) {
				return a.service.Changeovers.Get(ctx, id)
			},
		},
		{
			"start-changeover",
			http.MethodPost,
			"/start",
			"Start a drafted changeover",
			func(ctx context.Context, id int64) (wire.Changeover, error) {
				return a.service.Changeovers.Start(ctx, id)
			},
		},
		{
			"cancel-changeover",
			http.MethodPost,
			"/cancel",
			"Cancel a changeover that is staging or waiting",
			func(ctx context.Context, id int64) (wire.Changeover, error) {
				return a.service.Changeovers.Cancel(ctx, id)
			},
		},
		{
			"retry-changeover",
			http.MethodPost,
			"/retry",
			"Go on going back with a held changeover",
			func(ctx context.Context, id int64) (wire.Changeover, error) {
				return a.service.Changeovers.Retry(ctx, id)
			},
		},
		{
			"go-on-changeover",
			http.MethodPost,
			"/go-on",
			"Give a changeover the word that it waits for",
			func(ctx context.Context, id int64) (wire.Changeover, error) {
				return a.service.Changeovers.GoOn(ctx, id, userOf(ctx))
			},
		},
		{
			"leave-changeover",
			http.MethodPost,
			"/leave",
			"Wait no longer for a host or a server that does not answer: the changeover is held, and says what " +
				"stands where",
			func(ctx context.Context, id int64) (wire.Changeover, error) {
				return a.service.Changeovers.Leave(ctx, id)
			},
		},
		{
			"settle-changeover",
			http.MethodPost,
			"/settle",
			"Close a held changeover that was put right by hand; no file is touched",
			func(ctx context.Context, id int64) (wire.Changeover, error) {
				return a.service.Changeovers.Settle(ctx, id, userOf(ctx))
			},
		},
	} {
		huma.Register(a.huma, op(c.id, c.method, "/changeovers/{id}"+c.path, c.summary, "changeovers"),
			func(ctx context.Context, in *changeoverInput) (*answer[wire.Changeover], error) {
				got, err := c.do(ctx, in.ID)
				return &answer[wire.Changeover]{got}, a.failed(err)
			})
	}
	a.watchRoutes()
}

// watchRoutes are about a changeover that goes on, and what is to be seen of it afterwards.
func (a *API) watchRoutes() {
	huma.Register(a.huma, op("tick-landmark", http.MethodPut, "/changeovers/{id}/landmarks/{landmark}",
		"Tell whether a landmark was found after a changeover", "changeovers"), func(ctx context.Context, in *struct {
		ID       int64 `path:"id"`
		Landmark int64 `path:"landmark"`
		Body     struct {
			Seen bool `json:"seen" doc:"false: it is not there"`
		}
	}) (*answer[wire.Changeover], error) {
		c, err := a.service.Changeovers.Sight(ctx, in.ID, in.Landmark, in.Body.Seen, userOf(ctx))
		return &answer[wire.Changeover]{c}, a.failed(err)
	})
	huma.Register(a.huma, streams[wire.Changeover](a.huma,
		op("watch-changeover", http.MethodGet, "/changeovers/{id}/events",
			"Watch a changeover: an event a change, each the whole state, until it rests", "changeovers")), func(
		ctx context.Context, in *changeoverInput) (*huma.StreamResponse, error) {
		if _, err := a.service.Changeovers.Get(ctx, in.ID); err != nil {
			return nil, a.failed(err)
		}
		return a.stream(ctx, func(hctx huma.Context, e *events) {
			err := a.service.Changeovers.Watch(hctx.Context(), in.ID,
				func(c wire.Changeover) error { return e.send("changeover", c) })
			if err != nil {
				a.log.Debug("event stream ended", "error", err)
			}
		})
	})
}
