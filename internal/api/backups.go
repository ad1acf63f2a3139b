package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/wire"
)

type ruleInput struct {
	Server string `path:"server"`
	Rule   string `path:"rule"`
}

func (a *API) backupRoutes() {
	huma.Register(a.huma, op("make-backup", http.MethodPost, "/backups",
		"Back a server up now, while people play. It goes on by itself, as the changeover that is named", "backups"),
		func(ctx context.Context, in *struct{ Body wire.MakeBackup }) (*answer[wire.Backup], error) {
			b, err := a.service.Backups.Make(ctx, in.Body, userOf(ctx))
			return &answer[wire.Backup]{b}, a.failed(err)
		})
	huma.Register(a.huma, op("list-backups", http.MethodGet, "/backups", "List backups, newest first", "backups"),
		func(ctx context.Context, in *wire.BackupQuery) (*page[wire.Backup], error) {
			list, next, err := a.service.Backups.List(ctx, *in)
			return paged("/backups", *in, list, next), a.failed(err)
		})
	huma.Register(a.huma, op("get-backup", http.MethodGet, "/backups/{id}",
		"Get a backup with what the server was", "backups"), func(ctx context.Context, in *struct {
		ID int64 `path:"id"`
	}) (*answer[wire.Backup], error) {
		b, err := a.service.Backups.Get(ctx, in.ID)
		return &answer[wire.Backup]{b}, a.failed(err)
	})
	huma.Register(a.huma, op("change-backup", http.MethodPatch, "/backups/{id}",
		"Say something of a backup: a note, a pin, or that it is set aside", "backups"), func(
		ctx context.Context, in *struct {
			ID   int64 `path:"id"`
			Body wire.ChangeBackup
		}) (*answer[wire.Backup], error) {
		b, err := a.service.Backups.Change(ctx, in.ID, in.Body, userOf(ctx))
		return &answer[wire.Backup]{b}, a.failed(err)
	})
	huma.Register(a.huma, op("report-backups", http.MethodGet, "/backups-report",
		"How it stands with the backups of each server", "backups"),
		func(ctx context.Context, _ *struct{}) (*answer[[]wire.Report], error) {
			r, err := a.service.Backups.Report(ctx)
			return &answer[[]wire.Report]{r}, a.failed(err)
		})
	huma.Register(a.huma, op("get-backup-limits", http.MethodGet, "/backup-limits",
		"What is allowed for the backups of all servers together", "backups"),
		func(ctx context.Context, _ *struct{}) (*answer[wire.BackupLimits], error) {
			l, err := a.service.Backups.Limits(ctx)
			return &answer[wire.BackupLimits]{l}, a.failed(err)
		})
	huma.Register(a.huma, op("set-backup-limits", http.MethodPut, "/backup-limits",
		"Set what is allowed for the backups of all servers together; the oldest go first", "backups"),
		func(ctx context.Context, in *struct{ Body wire.BackupLimits }) (*answer[wire.BackupLimits], error) {
			l, err := a.service.Backups.SetLimits(ctx, in.Body)
			return &answer[wire.BackupLimits]{l}, a.failed(err)
		})
	huma.Register(a.huma, op("list-alerts", http.MethodGet, "/alerts", "List what needs a person, the oldest first",
		"backups"), func(ctx context.Context, _ *struct{}) (*answer[[]wire.Alert], error) {
		l, err := a.service.Backups.Alerts(ctx)
		return &answer[[]wire.Alert]{l}, a.failed(err)
	})
	huma.Register(a.huma, op("trust-clock", http.MethodPost, "/clock/trust",
		"Say that the machine's clock is right, after it has leapt: ages count by it from now on", "backups"),
		func(ctx context.Context, _ *struct{}) (*struct{}, error) {
			return nil, a.failed(a.service.Backups.TrustClock(ctx))
		})
	a.ruleRoutes()
}

func (a *API) ruleRoutes() {
	huma.Register(a.huma, op("list-rules", http.MethodGet, "/rules", "List the rules of backups", "backups"), func(
		ctx context.Context, in *struct {
			Server string `query:"server" doc:"only of this server"`
		}) (*answer[[]wire.Rule], error) {
		l, err := a.service.Backups.Rules(ctx, in.Server)
		return &answer[[]wire.Rule]{append([]wire.Rule{}, l...)}, a.failed(err)
	})
	huma.Register(a.huma, op("add-rule", http.MethodPost, "/servers/{server}/rules", "Add a rule to a server",
		"backups"),
		func(ctx context.Context, in *struct {
			Server string `path:"server"`
			Body   wire.NewRule
		}) (*answer[wire.Rule], error) {
			r, err := a.service.Backups.AddRule(ctx, in.Server, in.Body, userOf(ctx))
			return &answer[wire.Rule]{r}, a.failed(err)
		})
	huma.Register(a.huma, op("preview-rule", http.MethodPost, "/servers/{server}/rules-preview",
		"Work out what a rule would keep and what would go, and why; nothing is changed", "backups"), func(
		ctx context.Context, in *struct {
			Server string `path:"server"`
			Body   wire.PreviewRule
		}) (*answer[wire.RulePreview], error) {
		r, err := a.service.Backups.Preview(ctx, in.Server, in.Body)
		return &answer[wire.RulePreview]{r}, a.failed(err)
	})
	huma.Register(a.huma, op("change-rule", http.MethodPatch, "/servers/{server}/rules/{rule}",
		"Change a rule, pause it or let it go on", "backups"), func(ctx context.Context, in *struct {
		Server string `path:"server"`
		Rule   string `path:"rule"`
		Body   wire.ChangeRule
	}) (*answer[wire.Rule], error) {
		r, err := a.service.Backups.ChangeRule(ctx, in.Server, in.Rule, in.Body, userOf(ctx))
		return &answer[wire.Rule]{r}, a.failed(err)
	})
	huma.Register(a.huma, op("run-rule", http.MethodPost, "/servers/{server}/rules/{rule}/run",
		"Have a rule followed now, beside its times", "backups"),
		func(ctx context.Context, in *ruleInput) (*answer[wire.Rule], error) {
			r, err := a.service.Backups.RunRule(ctx, in.Server, in.Rule, userOf(ctx))
			return &answer[wire.Rule]{r}, a.failed(err)
		})
	huma.Register(a.huma, op("remove-rule", http.MethodDelete, "/servers/{server}/rules/{rule}",
		"Forget a rule; the backups that it has made stay, and no rule lets them go any more", "backups"),
		func(ctx context.Context, in *ruleInput) (*struct{}, error) {
			return nil, a.failed(a.service.Backups.RemoveRule(ctx, in.Server, in.Rule))
		})
}
