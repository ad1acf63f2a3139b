package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/wire"
)

// describingRoutes are about what people say of worlds and copies.
func (a *API) describingRoutes() {
	huma.Register(a.huma, op("change-world", http.MethodPatch, "/worlds/{world}",
		"Change a world's title, note or tags", "library"), func(ctx context.Context, in *struct {
		World string `path:"world"`
		Body  wire.ChangeWorld
	}) (*answer[wire.World], error) {
		w, err := a.service.Library.ChangeWorld(ctx, in.World, in.Body, userOf(ctx))
		return &answer[wire.World]{w}, a.failed(err)
	})
	huma.Register(a.huma, op("get-world-lineage", http.MethodGet, "/worlds/{world}/lineage",
		"Where a world's copies came from and where they went", "library"), func(ctx context.Context, in *struct {
		World string `path:"world"`
	}) (*answer[wire.Lineage], error) {
		l, err := a.service.Library.Lineage(ctx, in.World)
		return &answer[wire.Lineage]{l}, a.failed(err)
	})
	huma.Register(a.huma, op("join-worlds", http.MethodPost, "/worlds/{world}/join",
		"Make a world's copies those of another one, because they are the same world", "library"),
		func(ctx context.Context, in *struct {
			World string `path:"world"`
			Body  struct {
				Into string `json:"into"`
			}
		}) (*answer[wire.World], error) {
			w, err := a.service.Library.JoinWorlds(ctx, in.World, in.Body.Into)
			return &answer[wire.World]{w}, a.failed(err)
		})
	huma.Register(a.huma, op("say-apart", http.MethodPost, "/worlds/{world}/apart",
		"Say that two worlds are not the same, so that it is not asked again", "library"),
		func(ctx context.Context, in *struct {
			World string `path:"world"`
			Body  struct {
				From string `json:"from"`
			}
		}) (*struct{}, error) {
			return nil, a.failed(a.service.Library.SayApart(ctx, in.World, in.Body.From, userOf(ctx)))
		})
	huma.Register(a.huma, op("change-copy", http.MethodPatch, "/copies/{copy}",
		"Change a copy's note, pin it, set it aside or bring it back", "library"),
		func(ctx context.Context, in *struct {
			Copy string `path:"copy" doc:"the beginning of its id"`
			Body wire.ChangeCopy
		}) (*answer[wire.Copy], error) {
			c, err := a.service.Library.ChangeCopy(ctx, in.Copy, in.Body, userOf(ctx))
			return &answer[wire.Copy]{c}, a.failed(err)
		})
	huma.Register(a.huma, op("split-copy", http.MethodPost, "/copies/{copy}/split", "Give a copy a world of its own",
		"library"), func(ctx context.Context, in *struct {
		Copy string `path:"copy" doc:"the beginning of its id"`
	}) (*answer[wire.World], error) {
		w, err := a.service.Library.SplitCopy(ctx, in.Copy)
		return &answer[wire.World]{w}, a.failed(err)
	})
}

type compareInput struct {
	Before string `query:"before" required:"true" doc:"a world, or the beginning of a copy's id"`
	After  string `query:"after" required:"true" doc:"a world, or the beginning of a copy's id"`
}

func (a *API) compareRoutes() {
	huma.Register(a.huma, op("compare", http.MethodGet, "/compare", "In what two copies differ, the earlier one first",
		"library"), func(ctx context.Context, in *compareInput) (*answer[wire.Compared], error) {
		c, err := a.service.Library.Compare(ctx, in.Before, in.After)
		return &answer[wire.Compared]{c}, a.failed(err)
	})
	huma.Register(a.huma, picture(
		op("compare-picture", http.MethodGet, "/compare/picture",
			"The map of the later copy with added tiles framed green, changed ones yellow, lost ones red and crossed "+
				"out", "library")), func(
		ctx context.Context, in *compareInput) (*pictureAnswer, error) {
		return a.pictured(a.service.Library.ComparePicture(ctx, in.Before, in.After))
	})
}

func (a *API) vaultRoutes() {
	huma.Register(a.huma, op("get-vault", http.MethodGet, "/vault", "What the vault holds and what it is doing",
		"vault"), func(ctx context.Context, _ *struct{}) (*answer[wire.Vault], error) {
		v, err := a.service.Upkeep.Vault(ctx)
		return &answer[wire.Vault]{v}, a.failed(err)
	})
	for kind, summary := range map[string]string{
		"check": "Read everything back that the vault holds", "collect": "Remove what no copy of the library needs",
		"rebuild": "Make the vault's index anew from its packs",
	} {
		huma.Register(a.huma, op(kind+"-vault", http.MethodPost, "/vault/"+kind, summary+"; it goes on by itself",
			"vault"), func(ctx context.Context, _ *struct{}) (*answer[wire.Vault], error) {
			v, err := a.service.Upkeep.WorkOn(ctx, kind, "", userOf(ctx))
			return &answer[wire.Vault]{v}, a.failed(err)
		})
	}
	huma.Register(a.huma, op("recover-vault", http.MethodPost, "/vault/recover/{store}",
		"Bring everything back into the vault that a store has; it goes on by itself", "vault"), func(
		ctx context.Context, in *struct {
			Store string `path:"store"`
		}) (*answer[wire.Vault], error) {
		if _, err := a.service.Stores.Store(ctx, in.Store); err != nil {
			return nil, a.failed(err)
		}
		v, err := a.service.Upkeep.WorkOn(ctx, "recover", in.Store, userOf(ctx))
		return &answer[wire.Vault]{v}, a.failed(err)
	})
}
