package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"reshard/internal/wire"
)

// MakeBackup backs a server up now; it goes on by itself.
func (c *Client) MakeBackup(ctx context.Context, in wire.MakeBackup) (wire.Backup, error) {
	return call[wire.Backup](ctx, c, http.MethodPost, "/backups", in)
}

// Backups lists backups, newest first.
func (c *Client) Backups(ctx context.Context, q wire.BackupQuery) ([]wire.Backup, error) {
	return gather[wire.Backup](ctx, c, "/backups", q, q.Limit)
}

// Backup gives one backup, with what the server was.
func (c *Client) Backup(ctx context.Context, id int64) (wire.Backup, error) {
	return call[wire.Backup](ctx, c, http.MethodGet, fmt.Sprintf("/backups/%d", id), nil)
}

// ChangeBackup says something of a backup.
func (c *Client) ChangeBackup(ctx context.Context, id int64, in wire.ChangeBackup) (wire.Backup, error) {
	return call[wire.Backup](ctx, c, http.MethodPatch, fmt.Sprintf("/backups/%d", id), in)
}

// BackupReport tells how it stands with the backups of each server.
func (c *Client) BackupReport(ctx context.Context) ([]wire.Report, error) {
	return call[[]wire.Report](ctx, c, http.MethodGet, "/backups-report", nil)
}

// BackupLimits gives what is allowed for all servers together.
func (c *Client) BackupLimits(ctx context.Context) (wire.BackupLimits, error) {
	return call[wire.BackupLimits](ctx, c, http.MethodGet, "/backup-limits", nil)
}

// SetBackupLimits sets it.
func (c *Client) SetBackupLimits(ctx context.Context, to wire.BackupLimits) (wire.BackupLimits, error) {
	return call[wire.BackupLimits](ctx, c, http.MethodPut, "/backup-limits", to)
}

// Alerts lists what needs a person.
func (c *Client) Alerts(ctx context.Context) ([]wire.Alert, error) {
	return call[[]wire.Alert](ctx, c, http.MethodGet, "/alerts", nil)
}

// TrustClock says that the service's machine's clock is right.
func (c *Client) TrustClock(ctx context.Context) error {
	_, err := call[struct{}](ctx, c, http.MethodPost, "/clock/trust", nil)
	return err
}

// Rules lists the rules of a server, or of all when it is "".
func (c *Client) Rules(ctx context.Context, server string) ([]wire.Rule, error) {
	return call[[]wire.Rule](ctx, c, http.MethodGet, "/rules?server="+url.QueryEscape(server), nil)
}

func rulePath(server, rule string) string {
	return "/servers/" + url.PathEscape(server) + "/rules/" + url.PathEscape(rule)
}

// AddRule adds a rule to a server.
func (c *Client) AddRule(ctx context.Context, server string, in wire.NewRule) (wire.Rule, error) {
	return call[wire.Rule](ctx, c, http.MethodPost, "/servers/"+url.PathEscape(server)+"/rules", in)
}

// PreviewRule works out what a rule would do.
func (c *Client) PreviewRule(ctx context.Context, server string, in wire.PreviewRule) (wire.RulePreview, error) {
	return call[wire.RulePreview](ctx, c, http.MethodPost, "/servers/"+url.PathEscape(server)+"/rules-preview", in)
}

// ChangeRule changes a rule.
func (c *Client) ChangeRule(ctx context.Context, server, rule string, in wire.ChangeRule) (wire.Rule, error) {
	return call[wire.Rule](ctx, c, http.MethodPatch, rulePath(server, rule), in)
}

// RunRule has a rule followed now.
func (c *Client) RunRule(ctx context.Context, server, rule string) (wire.Rule, error) {
	return call[wire.Rule](ctx, c, http.MethodPost, rulePath(server, rule)+"/run", nil)
}

// RemoveRule forgets a rule.
func (c *Client) RemoveRule(ctx context.Context, server, rule string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, rulePath(server, rule), nil)
	return err
}

// Stores lists the places that get everything that the vault has.
func (c *Client) Stores(ctx context.Context) ([]wire.Store, error) {
	return call[[]wire.Store](ctx, c, http.MethodGet, "/stores", nil)
}

// Store gives one store.
func (c *Client) Store(ctx context.Context, name string) (wire.Store, error) {
	return call[wire.Store](ctx, c, http.MethodGet, "/stores/"+url.PathEscape(name), nil)
}

// AddStore adds a store, and tries it.
func (c *Client) AddStore(ctx context.Context, in wire.NewStore) (wire.Store, error) {
	return call[wire.Store](ctx, c, http.MethodPost, "/stores", in)
}

// CheckStore reads a whole store back.
func (c *Client) CheckStore(ctx context.Context, name string) (wire.StandingCheck, error) {
	return call[wire.StandingCheck](ctx, c, http.MethodPost, "/stores/"+url.PathEscape(name)+"/check", nil)
}

// StoreHolder tells whose a store is, by what is marked there.
func (c *Client) StoreHolder(ctx context.Context, name string) (wire.StoreHolder, error) {
	return call[wire.StoreHolder](ctx, c, http.MethodGet, "/stores/"+url.PathEscape(name)+"/holder", nil)
}

// TakeStoreOver makes a store this service's own; mark is what StoreHolder has told.
func (c *Client) TakeStoreOver(ctx context.Context, name, mark string) (wire.Store, error) {
	return call[wire.Store](ctx, c, http.MethodPost, "/stores/"+url.PathEscape(name)+"/take-over",
		wire.TakeOverStore{Mark: mark})
}

// TidyStore deletes packs that a store shows as due.
func (c *Client) TidyStore(ctx context.Context, name string, packs []string) (wire.Store, error) {
	return call[wire.Store](ctx, c, http.MethodPost, "/stores/"+url.PathEscape(name)+"/tidy",
		wire.TidyStore{Packs: packs})
}

// ConfirmStore says that a store is meant to be where it is.
func (c *Client) ConfirmStore(ctx context.Context, name string) (wire.Store, error) {
	return call[wire.Store](ctx, c, http.MethodPost, "/stores/"+url.PathEscape(name)+"/confirm", nil)
}

// RemoveStore forgets a store.
func (c *Client) RemoveStore(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, "/stores/"+url.PathEscape(name), nil)
	return err
}

// StoreKeys tells of the keys that stores are encrypted with.
func (c *Client) StoreKeys(ctx context.Context) (wire.StoreKeys, error) {
	return call[wire.StoreKeys](ctx, c, http.MethodGet, "/store-keys", nil)
}

// RotateStoreKey makes a new key.
func (c *Client) RotateStoreKey(ctx context.Context) (wire.StoreKeys, error) {
	return call[wire.StoreKeys](ctx, c, http.MethodPost, "/store-keys", nil)
}

// RecoverVault brings everything back into the vault that a store has; it goes on by itself.
func (c *Client) RecoverVault(ctx context.Context, store string) (wire.Vault, error) {
	return call[wire.Vault](ctx, c, http.MethodPost, "/vault/recover/"+url.PathEscape(store), nil)
}

// NoticeTargets lists whom the service tells of what needs a person.
func (c *Client) NoticeTargets(ctx context.Context) ([]wire.NoticeTarget, error) {
	return call[[]wire.NoticeTarget](ctx, c, http.MethodGet, "/notice-targets", nil)
}

// AddNoticeTarget adds a webhook or a mail address.
func (c *Client) AddNoticeTarget(ctx context.Context, in wire.NewNoticeTarget) (wire.NoticeTarget, error) {
	return call[wire.NoticeTarget](ctx, c, http.MethodPost, "/notice-targets", in)
}

// TryNoticeTarget tells a target something now.
func (c *Client) TryNoticeTarget(ctx context.Context, name string) (wire.NoticeTarget, error) {
	return call[wire.NoticeTarget](ctx, c, http.MethodPost, "/notice-targets/"+url.PathEscape(name)+"/try", nil)
}

// RemoveNoticeTarget forgets a target.
func (c *Client) RemoveNoticeTarget(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, http.MethodDelete, "/notice-targets/"+url.PathEscape(name), nil)
	return err
}
