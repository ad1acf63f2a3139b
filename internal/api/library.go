package api

import (
	"context"
	"errors"
	"io"
	"mime"
	"net/http"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"reshard/internal/arrivals"
	"reshard/internal/core/world"
	"reshard/internal/library"
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

// hand sends what leaves the library.
func (a *API) hand(export library.Export) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(hctx huma.Context) {
		hctx.SetHeader("Content-Type", export.Type)
		hctx.SetHeader("Content-Disposition", mime.FormatMediaType("attachment",
			map[string]string{"filename": export.Name}))
		if err := export.Write(hctx.BodyWriter()); err != nil {
			a.log.Error("a file ended early", "file", export.Name, "error", err)
			panic(http.ErrAbortHandler) // a cut connection is the only way left to say that it is not whole
		}
	}}
}

// pictureAnswer is a PNG image.
type pictureAnswer struct {
	Status int
	Type   string `header:"Content-Type"`
	Cache  string `header:"Cache-Control"`
	Body   []byte
}

// shortly lets a browser keep a picture while a person looks around.
const shortly = "private, max-age=60"

// pictured answers with a picture. That there is nothing to draw yet is no failure: the
// answer is empty then.
func (a *API) pictured(data []byte, err error) (*pictureAnswer, error) {
	if errors.Is(err, world.ErrNothingYet) {
		return &pictureAnswer{Status: http.StatusNoContent}, nil
	}
	return &pictureAnswer{http.StatusOK, "image/png", shortly, data}, a.failed(err)
}

func picture(o huma.Operation) huma.Operation {
	o.Responses = map[string]*huma.Response{
		"204": {Description: "Nothing of the world has been explored yet."},
		"200": {
			Description: "A PNG image.",
			Content: map[string]*huma.MediaType{
				"image/png": {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
			},
		},
	}
	return o
}

func (a *API) worldRoutes() {
	huma.Register(a.huma, op("list-worlds", http.MethodGet, "/worlds", "List the library, or what is looked for in it",
		"library"), func(ctx context.Context, in *wire.WorldQuery) (*page[wire.World], error) {
		list, next, err := a.service.Library.Worlds(ctx, *in)
		return paged("/worlds", *in, list, next), a.failed(err)
	})
	huma.Register(a.huma, op("get-world", http.MethodGet, "/worlds/{world}",
		"Get a world by name or by the beginning of a copy's id", "library"), func(ctx context.Context, in *struct {
		World string `path:"world"`
	}) (*answer[wire.World], error) {
		w, err := a.service.Library.World(ctx, in.World)
		return &answer[wire.World]{w}, a.failed(err)
	})
	send := op("send-world", http.MethodPost, "/worlds", "Send a world as an archive, streamed", "library")
	send.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{
		"application/zip":          {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
		"application/octet-stream": {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
	}}
	huma.Register(a.huma, send, func(ctx context.Context, in *sendInput) (*answer[wire.Arrival], error) {
		arrival, err := a.service.Arrivals.Receive(ctx,
			arrivals.Incoming{
				Incoming: library.Incoming{Name: in.Name, Root: in.Root, By: userOf(ctx)}, Size: in.size, Body: in.body,
			})
		return &answer[wire.Arrival]{arrival}, a.failed(err)
	})
	huma.Register(a.huma, op("verify-world", http.MethodPost, "/worlds/{world}/verify",
		"Read a copy back from the vault and verify every byte", "library"), func(ctx context.Context, in *struct {
		World string `path:"world"`
	}) (*answer[wire.Copy], error) {
		c, err := a.service.Library.VerifyCopy(ctx, in.World)
		return &answer[wire.Copy]{c}, a.failed(err)
	})
	a.copyRoutes()
	a.describingRoutes()
	a.compareRoutes()
	a.landmarkRoutes()
}

// copyRoutes give what a copy holds.
func (a *API) copyRoutes() {
	out := op("get-world-archive", http.MethodGet, "/worlds/{world}/archive",
		"Get a copy as the game's own program takes it: an archive, or the world's one file", "library")
	out.Responses = map[string]*huma.Response{
		"200": {Description: "The file; its name is in Content-Disposition.", Content: map[string]*huma.MediaType{
			"application/zip":          {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
			"application/octet-stream": {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
			"application/zstd":         {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
		}},
	}
	huma.Register(a.huma, out, func(ctx context.Context, in *struct {
		World string `path:"world"`
		As    string `query:"as" enum:"game,zip,tar.zst" default:"game" doc:"as the game takes it, or an archive"`
	}) (*huma.StreamResponse, error) {
		export, err := a.service.Library.Export(ctx, in.World, in.As)
		if err != nil {
			return nil, a.failed(err)
		}
		return a.hand(export), nil
	})
	huma.Register(a.huma, op("list-world-files", http.MethodGet, "/worlds/{world}/files", "List the files of a copy",
		"library"), func(ctx context.Context, in *struct {
		World string `path:"world"`
	}) (*answer[[]wire.CopyFile], error) {
		list, err := a.service.Library.CopyFiles(ctx, in.World)
		return &answer[[]wire.CopyFile]{list}, a.failed(err)
	})
	one := op("get-world-file", http.MethodGet, "/worlds/{world}/file", "Get one file of a copy", "library")
	one.Responses = map[string]*huma.Response{
		"200": {
			Description: "The file.",
			Content: map[string]*huma.MediaType{
				"application/octet-stream": {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}},
			},
		},
	}
	huma.Register(a.huma, one, func(ctx context.Context, in *struct {
		World string `path:"world"`
		Path  string `query:"path" required:"true" doc:"as it is listed"`
	}) (*huma.StreamResponse, error) {
		export, err := a.service.Library.CopyFile(ctx, in.World, in.Path)
		if err != nil {
			return nil, a.failed(err)
		}
		return a.hand(export), nil
	})
	huma.Register(a.huma, picture(
		op("get-world-picture", http.MethodGet, "/worlds/{world}/picture",
			"Get a copy from above, as its game's profile draws it", "library")), func(
		ctx context.Context, in *struct {
			World string `path:"world"`
			Side  int    `query:"side" minimum:"0" maximum:"2048" doc:"longest side in pixels; 0: as it is drawn"`
			Marks bool   `query:"marks" doc:"with spawn and landmarks on it"`
		}) (*pictureAnswer, error) {
		return a.pictured(a.service.Library.CopyPicture(ctx, in.World, library.Look{Side: in.Side, Marks: in.Marks}))
	})
	huma.Register(a.huma, op("get-world-map", http.MethodGet, "/worlds/{world}/map",
		"Where a copy's picture stands in the world, with spawn and landmarks", "library"),
		func(ctx context.Context, in *struct {
			World string `path:"world"`
		}) (*answer[wire.Map], error) {
			m, err := a.service.Library.CopyMap(ctx, in.World)
			return &answer[wire.Map]{m}, a.failed(err)
		})
}

func (a *API) landmarkRoutes() {
	huma.Register(a.huma, op("list-landmarks", http.MethodGet, "/worlds/{world}/landmarks",
		"List what to look for in a world", "library"), func(ctx context.Context, in *struct {
		World string `path:"world"`
	}) (*answer[[]wire.Landmark], error) {
		list, err := a.service.Library.Landmarks(ctx, in.World)
		return &answer[[]wire.Landmark]{list}, a.failed(err)
	})
	huma.Register(a.huma, op("add-landmark", http.MethodPost, "/worlds/{world}/landmarks",
		"Note something to look for in a world", "library"), func(ctx context.Context, in *struct {
		World string `path:"world"`
		Body  wire.NewLandmark
	}) (*answer[[]wire.Landmark], error) {
		list, err := a.service.Library.AddLandmark(ctx, in.World, in.Body, userOf(ctx))
		return &answer[[]wire.Landmark]{list}, a.failed(err)
	})
	huma.Register(a.huma, op("remove-landmark", http.MethodDelete, "/worlds/{world}/landmarks/{landmark}",
		"Forget a landmark", "library"), func(ctx context.Context, in *struct {
		World    string `path:"world"`
		Landmark int64  `path:"landmark"`
	}) (*struct{}, error) {
		return nil, a.failed(a.service.Library.RemoveLandmark(ctx, in.World, in.Landmark))
	})
}
