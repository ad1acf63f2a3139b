package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"reshard/internal/wire"
)

// ChangeWorld changes what is said of a world.
func (c *Client) ChangeWorld(ctx context.Context, world string, change wire.ChangeWorld) (wire.World, error) {
	return call[wire.World](ctx, c, http.MethodPatch, "/worlds/"+url.PathEscape(world), change)
}

// ChangeCopy changes what is said of a copy.
func (c *Client) ChangeCopy(ctx context.Context, id string, change wire.ChangeCopy) (wire.Copy, error) {
	return call[wire.Copy](ctx, c, http.MethodPatch, "/copies/"+url.PathEscape(id), change)
}

// Lineage gives where a world's copies came from and where they went.
func (c *Client) Lineage(ctx context.Context, world string) (wire.Lineage, error) {
	return call[wire.Lineage](ctx, c, http.MethodGet, "/worlds/"+url.PathEscape(world)+"/lineage", nil)
}

// Join makes a world's copies those of another one.
func (c *Client) Join(ctx context.Context, world, into string) (wire.World, error) {
	return call[wire.World](ctx, c, http.MethodPost, "/worlds/"+url.PathEscape(world)+"/join",
		map[string]string{"into": into})
}

// SayApart says that two worlds are not the same.
func (c *Client) SayApart(ctx context.Context, world, from string) error {
	_, err := call[struct{}](ctx, c, http.MethodPost, "/worlds/"+url.PathEscape(world)+"/apart",
		map[string]string{"from": from})
	return err
}

// Split gives a copy a world of its own.
func (c *Client) Split(ctx context.Context, id string) (wire.World, error) {
	return call[wire.World](ctx, c, http.MethodPost, "/copies/"+url.PathEscape(id)+"/split", nil)
}

// Map gives where a copy's picture stands in the world.
func (c *Client) Map(ctx context.Context, world string) (wire.Map, error) {
	return call[wire.Map](ctx, c, http.MethodGet, "/worlds/"+url.PathEscape(world)+"/map", nil)
}

// Compare tells in what two copies differ.
func (c *Client) Compare(ctx context.Context, before, after string) (wire.Compared, error) {
	return call[wire.Compared](ctx, c, http.MethodGet,
		"/compare?"+url.Values{"before": {before}, "after": {after}}.Encode(), nil)
}

// ComparePicture gets in what two copies differ on the map, as PNG. The caller closes it.
func (c *Client) ComparePicture(ctx context.Context, before, after string) (io.ReadCloser, error) {
	return c.picture(ctx, "/compare/picture?"+url.Values{"before": {before}, "after": {after}}.Encode(), after)
}

// Vault tells what the vault holds and what it is doing.
func (c *Client) Vault(ctx context.Context) (wire.Vault, error) {
	return call[wire.Vault](ctx, c, http.MethodGet, "/vault", nil)
}

// WorkOnVault begins a check, a collection or a rebuild.
func (c *Client) WorkOnVault(ctx context.Context, kind string) (wire.Vault, error) {
	return call[wire.Vault](ctx, c, http.MethodPost, "/vault/"+kind, nil)
}

// body gets something that is no JSON. The caller closes it.
func (c *Client) body(ctx context.Context, path string) (io.ReadCloser, error) {
	res, err := c.request(ctx, http.MethodGet, path, nil, "")
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}
