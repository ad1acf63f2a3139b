package api

import (
	"context"
	"io"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/service"
	"reshard/internal/wire"
)

// sendInput takes the archive as a stream: the body is never held in memory.
type sendInput struct {
	Name string `query:"name" required:"true" minLength:"1" maxLength:"255" doc:"the file's name"`
	Root string `query:"root" doc:"which world, when the archive holds several"`

	size int64
	body io.Reader
}

// Resolve keeps the body's reader; huma calls it before the handler.
func (i *sendInput) Resolve(ctx huma.Context) []error {
	i.body, i.size = ctx.BodyReader(), -1
	if n, err := strconv.ParseInt(ctx.Header("Content-Length"), 10, 64); err == nil {
		i.size = n
	}
	return nil
}

func (a *API) worldRoutes() {
	huma.Register(a.huma, op("list-worlds", http.MethodGet, "/worlds", "List the library", "library"), func(ctx context.Context, _ *struct{}) (*answer[[]wire.World], error) {
		worlds, err := a.service.Worlds(ctx)
		return &answer[[]wire.World]{worlds}, a.failed(err)
	})
	huma.Register(a.huma, op("get-world", http.MethodGet, "/worlds/{world}", "Get a world by name or by the beginning of a copy's id", "library"), func(ctx context.Context, in *struct {
		World string `path:"world"`
	}) (*answer[wire.World], error) {
		w, err := a.service.World(ctx, in.World)
		return &answer[wire.World]{w}, a.failed(err)
	})
	send := op("send-world", http.MethodPost, "/worlds", "Send a world as a zip archive, streamed", "library")
	send.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		"application/zip": {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
	}}
	huma.Register(a.huma, send, func(ctx context.Context, in *sendInput) (*answer[wire.Arrival], error) {
		arrival, err := a.service.Receive(ctx, service.Incoming{Name: in.Name, Root: in.Root, By: userOf(ctx), Size: in.size, Body: in.body})
		return &answer[wire.Arrival]{arrival}, a.failed(err)
	})
	huma.Register(a.huma, op("verify-world", http.MethodPost, "/worlds/{world}/verify", "Read a copy back from the vault and verify every byte", "library"), func(ctx context.Context, in *struct {
		World string `path:"world"`
	}) (*answer[wire.Copy], error) {
		c, err := a.service.VerifyCopy(ctx, in.World)
		return &answer[wire.Copy]{c}, a.failed(err)
	})
}
