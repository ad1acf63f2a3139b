package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/wire"
)

type storeInput struct {
	Store string `path:"store"`
}

func (a *API) storeRoutes() {
	huma.Register(a.huma, op("list-stores", http.MethodGet, "/stores",
		"List the places that get everything that the vault has", "stores"),
		func(ctx context.Context, _ *struct{}) (*answer[[]wire.Store], error) {
			l, err := a.service.Stores.Stores(ctx)
			return &answer[[]wire.Store]{append([]wire.Store{}, l...)}, a.failed(err)
		})
	huma.Register(a.huma, op("add-store", http.MethodPost, "/stores", "Add a store, and try it", "stores"),
		func(ctx context.Context, in *struct{ Body wire.NewStore }) (*answer[wire.Store], error) {
			s, err := a.service.Stores.Add(ctx, in.Body, userOf(ctx))
			return &answer[wire.Store]{s}, a.failed(err)
		})
	huma.Register(a.huma, op("get-store", http.MethodGet, "/stores/{store}", "Get a store, with what it has and lacks",
		"stores"), func(ctx context.Context, in *storeInput) (*answer[wire.Store], error) {
		s, err := a.service.Stores.Store(ctx, in.Store)
		return &answer[wire.Store]{s}, a.failed(err)
	})
	huma.Register(a.huma, op("check-store", http.MethodPost, "/stores/{store}/check",
		"Read a whole store back, and send again what is damaged there", "stores"),
		func(ctx context.Context, in *storeInput) (*answer[wire.StandingCheck], error) {
			c, err := a.service.Stores.Check(ctx, in.Store)
			return &answer[wire.StandingCheck]{c}, a.failed(err)
		})
	huma.Register(a.huma, op("get-store-holder", http.MethodGet, "/stores/{store}/holder",
		"Get the service that a store belongs to, and what it has", "stores"),
		func(ctx context.Context, in *storeInput) (*answer[wire.StoreHolder], error) {
			h, err := a.service.Stores.Holder(ctx, in.Store)
			return &answer[wire.StoreHolder]{h}, a.failed(err)
		})
	huma.Register(a.huma, op("take-store-over", http.MethodPost, "/stores/{store}/take-over",
		"Make a store and its packs this service's own; its former service stops writing there", "stores"),
		func(ctx context.Context, in *struct {
			Store string `path:"store"`
			Body  wire.TakeOverStore
		}) (*answer[wire.Store], error) {
			s, err := a.service.Stores.TakeOver(ctx, in.Store, in.Body.Mark)
			return &answer[wire.Store]{s}, a.failed(err)
		})
	huma.Register(a.huma, op("tidy-store", http.MethodPost, "/stores/{store}/tidy",
		"Delete exactly these packs, which the store lists as due", "stores"),
		func(ctx context.Context, in *struct {
			Store string `path:"store"`
			Body  wire.TidyStore
		}) (*answer[wire.Store], error) {
			s, err := a.service.Stores.Tidy(ctx, in.Store, in.Body.Packs)
			return &answer[wire.Store]{s}, a.failed(err)
		})
	huma.Register(a.huma, op("confirm-store", http.MethodPost, "/stores/{store}/confirm",
		"Keep a store at a place that would be refused for a new one", "stores"),
		func(ctx context.Context, in *storeInput) (*answer[wire.Store], error) {
			s, err := a.service.Stores.Confirm(ctx, in.Store, userOf(ctx))
			return &answer[wire.Store]{s}, a.failed(err)
		})
	huma.Register(a.huma, op("remove-store", http.MethodDelete, "/stores/{store}",
		"Forget a store; what is in it stays there", "stores"),
		func(ctx context.Context, in *storeInput) (*struct{}, error) {
			return nil, a.failed(a.service.Stores.Remove(ctx, in.Store))
		})
	huma.Register(a.huma, op("get-store-keys", http.MethodGet, "/store-keys",
		"Tell of the keys that stores are encrypted with, without telling them", "stores"),
		func(ctx context.Context, _ *struct{}) (*answer[wire.StoreKeys], error) {
			k, err := a.service.Stores.Keys(ctx)
			return &answer[wire.StoreKeys]{k}, a.failed(err)
		})
	huma.Register(a.huma, op("rotate-store-key", http.MethodPost, "/store-keys",
		"Make a new key; what stores have is encrypted for it anew, by and by", "stores"),
		func(ctx context.Context, _ *struct{}) (*answer[wire.StoreKeys], error) {
			k, err := a.service.Stores.Rotate(ctx)
			return &answer[wire.StoreKeys]{k}, a.failed(err)
		})
}

func (a *API) noticeRoutes() {
	huma.Register(a.huma, op("list-notice-targets", http.MethodGet, "/notice-targets",
		"List whom the service tells of what needs a person", "backups"),
		func(ctx context.Context, _ *struct{}) (*answer[[]wire.NoticeTarget], error) {
			l, err := a.service.Notices.Targets(ctx)
			return &answer[[]wire.NoticeTarget]{append([]wire.NoticeTarget{}, l...)}, a.failed(err)
		})
	huma.Register(a.huma, op("add-notice-target", http.MethodPost, "/notice-targets",
		"Add a webhook or a mail address, and tell it so", "backups"),
		func(ctx context.Context, in *struct{ Body wire.NewNoticeTarget }) (*answer[wire.NoticeTarget], error) {
			t, err := a.service.Notices.Add(ctx, in.Body, userOf(ctx))
			return &answer[wire.NoticeTarget]{t}, a.failed(err)
		})
	huma.Register(a.huma, op("try-notice-target", http.MethodPost, "/notice-targets/{target}/try",
		"Tell a target something now, to see whether it arrives", "backups"), func(ctx context.Context, in *struct {
		Target string `path:"target"`
	}) (*answer[wire.NoticeTarget], error) {
		t, err := a.service.Notices.Try(ctx, in.Target)
		return &answer[wire.NoticeTarget]{t}, a.failed(err)
	})
	huma.Register(a.huma, op("remove-notice-target", http.MethodDelete, "/notice-targets/{target}",
		"Tell a target nothing any more", "backups"), func(ctx context.Context, in *struct {
		Target string `path:"target"`
	}) (*struct{}, error) {
		return nil, a.failed(a.service.Notices.Remove(ctx, in.Target))
	})
}
