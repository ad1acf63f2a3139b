package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/core/game"
	"reshard/internal/core/sketch"
	"reshard/internal/local"
	"reshard/internal/wire"
)

type gameInput struct {
	Game string `path:"game"`
}

type examplesInput struct{ Body wire.Examples }

func (i *examplesInput) examples() local.Examples {
	return local.Examples{World: i.Body.World, Server: i.Body.Server, Kind: i.Body.Kind, System: i.Body.System}
}

func (a *API) gameRoutes() {
	huma.Register(a.huma, op("list-games", http.MethodGet, "/games", "List the games that this service knows", "games"),
		func(context.Context, *struct{}) (*answer[[]wire.Game], error) {
			return &answer[[]wire.Game]{a.service.Games.Games()}, nil
		})
	huma.Register(a.huma, op("save-game", http.MethodPost, "/games",
		"Save a profile, as the next version of its game's", "games"),
		func(ctx context.Context, in *struct{ Body wire.SaveGame }) (*answer[wire.Game], error) {
			g, err := a.service.Games.Save(ctx, in.Body.Profile, in.Body.Override, userOf(ctx))
			return &answer[wire.Game]{g}, a.failed(err)
		})
	huma.Register(a.huma, op("list-game-versions", http.MethodGet, "/games/{game}/versions",
		"List every version that was uploaded for a game, newest first", "games"),
		func(ctx context.Context, in *gameInput) (*answer[[]wire.GameVersion], error) {
			list, err := a.service.Games.Versions(ctx, in.Game)
			return &answer[[]wire.GameVersion]{list}, a.failed(err)
		})
	huma.Register(a.huma, op("withdraw-game", http.MethodDelete, "/games/{game}",
		"Take what was uploaded for a game out of use; its versions stay on record", "games"),
		func(ctx context.Context, in *gameInput) (*struct{}, error) {
			return nil, a.failed(a.service.Games.Withdraw(ctx, in.Game))
		})
	huma.Register(a.huma, op("lint-game", http.MethodPost, "/games/lint",
		"Check a profile: line, column, what is wrong", "games"), func(_ context.Context, in *struct {
		Body struct {
			Profile string `json:"profile"`
		}
	}) (*answer[[]game.Complaint], error) {
		return &answer[[]game.Complaint]{a.service.Games.Lint(in.Body.Profile)}, nil
	})
	huma.Register(a.huma, op("try-game", http.MethodPost, "/games/try",
		"Run a profile against examples on the service's host: what each fact and key reads", "games"),
		func(_ context.Context, in *examplesInput) (*answer[local.Tried], error) {
			tried, err := a.service.Games.Try(in.Body.Profile, in.examples())
			return &answer[local.Tried]{tried}, a.failed(err)
		})
	huma.Register(a.huma, op("sketch-game", http.MethodPost, "/games/sketch",
		"Propose a first profile from examples on the service's host", "games"),
		func(_ context.Context, in *examplesInput) (*answer[sketch.Proposal], error) {
			p, err := a.service.Games.Sketch(in.examples(), in.Body.ID)
			return &answer[sketch.Proposal]{p}, a.failed(err)
		})
	huma.Register(a.huma, op("get-game-schema", http.MethodGet, "/games/schema",
		"Get the JSON Schema of game profiles, for editors", "games"),
		func(context.Context, *struct{}) (*answer[map[string]any], error) {
			return &answer[map[string]any]{game.SchemaMap()}, nil
		})
}
