package api

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/tus/tusd/v2/pkg/filestore"
	"github.com/tus/tusd/v2/pkg/handler"
	"github.com/tus/tusd/v2/pkg/memorylocker"
	"golang.org/x/exp/slog" // the upload handler's logger is of this package

	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// uploadsPath is where uploads by the tus protocol go (https://tus.io, 1.0.0, with the
// extensions creation, creation-with-upload and termination).
const uploadsPath = "/api/v1/uploads"

// uploads mounts the upload protocol.
func (a *API) uploads(r chi.Router) error {
	store := handler.NewStoreComposer()
	files := filestore.New(a.service.Arrivals.Folder())
	store.UseCore(files)
	store.UseTerminater(files)
	memorylocker.New().UseIn(store) // one service holds the folder
	tus, err := handler.NewHandler(handler.Config{
		StoreComposer: store, BasePath: uploadsPath + "/", DisableDownload: true, RespectForwardedHeaders: true,
		Cors: &handler.CorsConfig{Disable: true}, Logger: slog.New(slog.NewTextHandler(io.Discard, nil)),
		PreUploadCreateCallback: func(hook handler.HookEvent) (handler.HTTPResponse, handler.FileInfoChanges, error) {
			if hook.Upload.SizeIsDeferred {
				return handler.HTTPResponse{}, handler.FileInfoChanges{}, a.refused(fault.New(fault.Invalid, "receive",
					"the upload", "it does not say how long it is").With("Give Upload-Length: room is kept for it."))
			}
			noted, begun, err := a.service.Arrivals.Admit(hook.Upload.MetaData, hook.Upload.Size, userOf(hook.Context))
			if after, ok := hook.Context.Value(beginning{}).(*[]func()); ok && begun != nil {
				*after = append(*after, begun)
			}
			return handler.HTTPResponse{}, handler.FileInfoChanges{MetaData: noted}, a.refused(err)
		},
		PreFinishResponseCallback: func(hook handler.HookEvent) (handler.HTTPResponse, error) {
			return handler.HTTPResponse{}, a.refused(a.service.Arrivals.Finished(hook.Context, hook.Upload.ID))
		},
	})
	if err != nil {
		return err
	}
	routed := a.owned(withinProblems(http.StripPrefix(uploadsPath, tus)))
	r.Handle(strings.TrimPrefix(uploadsPath, "/api"), routed)
	r.Handle(strings.TrimPrefix(uploadsPath, "/api")+"/*", routed)
	return nil
}

// longestUpload is how long an upload's id may be: no file is called longer.
const longestUpload = 64

// owned lets only the sender of an upload go on with it, look at it or end it.
func (a *API) owned(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if id := strings.TrimPrefix(strings.TrimPrefix(r.URL.Path, uploadsPath), "/"); id != "" {
			err := a.service.Arrivals.Owned(id, userOf(r.Context()))
			if fault.CodeOf(err) == fault.NotAllowed && r.Method == http.MethodDelete {
				a.log.Warn("an upload is removed by another than its sender", "upload", id, "by", userOf(r.Context()))
				err = nil
			}
			none := fault.CodeOf(err) == fault.NotFound && len(id) <= longestUpload // that the protocol says itself
			if err != nil && !none {
				a.write(w, err)
				return
			}
		}
		if r.Method == http.MethodPost || r.Method == http.MethodPatch {
			give, err := a.sending.take(userOf(r.Context()))
			if err != nil {
				a.write(w, err)
				return
			}
			defer give()
		}
		var after []func()
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), beginning{}, &after)))
		for _, do := range after {
			do()
		}
	})
}

// beginning is where a request keeps what is to be done once its upload has begun.
type beginning struct{}

// withinProblems keeps a library's own words about what failed inside from going out.
func withinProblems(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(&inner{ResponseWriter: w}, r)
	})
}

// inner is an answer of which a failure's own text is withheld.
type inner struct {
	http.ResponseWriter
	failed bool
}

// Unwrap lets the server's own abilities be found.
func (i *inner) Unwrap() http.ResponseWriter { return i.ResponseWriter }

func (i *inner) WriteHeader(status int) {
	own := i.Header().Get("Content-Type") == "application/problem+json"
	if i.failed = status >= http.StatusInternalServerError && !own; !i.failed {
		i.ResponseWriter.WriteHeader(status)
		return
	}
	i.Header().Del("Content-Length")
	writeProblem(i.ResponseWriter, problemOf(fault.New(fault.Internal, "take in", "the upload", "")))
}

func (i *inner) Write(p []byte) (int, error) {
	if i.failed {
		return len(p), nil
	}
	return i.ResponseWriter.Write(p)
}

// refused gives a problem the form that the upload handler answers with.
func (a *API) refused(err error) error {
	if err == nil {
		return nil
	}
	_ = a.failed(err) // for the log
	p := problemOf(err)
	body, jsonErr := json.Marshal(p.Problem)
	if jsonErr != nil {
		return jsonErr
	}
	return handler.Error{ErrorCode: p.Code, Message: p.Detail, HTTPResponse: handler.HTTPResponse{
		StatusCode: p.Status, Body: string(body),
		Header: handler.HTTPHeader{"Content-Type": "application/problem+json"},
	}}
}

func (a *API) arrivalRoutes() {
	huma.Register(a.huma, op("list-arrivals", http.MethodGet, "/arrivals", "List uploads that have not become a copy",
		"arrivals"), func(ctx context.Context, _ *struct{}) (*answer[[]wire.Unfinished], error) {
		list, err := a.service.Arrivals.List(ctx)
		return &answer[[]wire.Unfinished]{list}, a.failed(err)
	})
	huma.Register(a.huma, op("take-arrival", http.MethodPost, "/arrivals/{id}/take",
		"Recognise what has been uploaded to /api/v1/uploads/{id} and store it", "arrivals"),
		func(ctx context.Context, in *struct {
			ID   string `path:"id"`
			Body struct {
				Root string `json:"root,omitempty" doc:"which world, when the archive holds several"`
				Hash string `json:"hash,omitempty" maxLength:"100" doc:"blake3:HEX, or sha256-4m:HEX; docs/api.md"`
			}
		}) (*answer[wire.Arrival], error) {
			arrival, err := a.service.Arrivals.Take(ctx, in.ID, in.Body.Root, in.Body.Hash, userOf(ctx))
			return &answer[wire.Arrival]{arrival}, a.failed(err)
		})
	huma.Register(a.huma, op("drop-arrival", http.MethodDelete, "/arrivals/{id}",
		"Remove an upload that has not become a copy", "arrivals"), func(ctx context.Context, in *struct {
		ID string `path:"id"`
	}) (*struct{}, error) {
		return nil, a.failed(a.service.Arrivals.Drop(ctx, in.ID, userOf(ctx)))
	})
	huma.Register(a.huma, op("check-room", http.MethodGet, "/arrivals/room", "Whether so many bytes can be stored",
		"arrivals"), func(_ context.Context, in *struct {
		Bytes int64  `query:"bytes" minimum:"0" required:"true"`
		Name  string `query:"name" doc:"of what is to come, for the answer"`
	}) (*struct{}, error) {
		return nil, a.failed(a.service.Arrivals.Room(in.Name, in.Bytes, 1))
	})
	huma.Register(a.huma, op("find-lacking-chunks", http.MethodPost, "/chunks/lacking",
		"Which of some chunks the vault does not have; docs/vault.md tells how files are cut", "arrivals"),
		func(ctx context.Context, in *struct {
			Body struct {
				Hashes []string `json:"hashes" maxItems:"10000"`
			}
		}) (*answer[wire.Lacking], error) {
			lacking, err := a.service.Arrivals.Lacking(ctx, in.Body.Hashes)
			return &answer[wire.Lacking]{wire.Lacking{Hashes: lacking}}, a.failed(err)
		})
	recognise := op("recognise", http.MethodPost, "/arrivals/recognise",
		"Look for worlds in a listing of files, before any of them is sent", "arrivals")
	takesListed(a, recognise, wire.Listing{},
		func(ctx context.Context, in *listed) (*answer[wire.Recognised], error) {
			var l wire.Listing
			err := readListed(in.body, longestListing, map[string]func(*json.Decoder) error{
				"name": one(&l.Name), "files": eachOf(&l.Files, mostListed),
			})
			if err != nil {
				return nil, a.unread(err)
			}
			got, err := a.service.Library.Recognise(ctx, l)
			return &answer[wire.Recognised]{got}, a.failed(err)
		})
	assemble := op("assemble-world", http.MethodPost, "/worlds/assemble", "Store a world whose chunks are in the vault",
		"arrivals")
	takesListed(a, assemble, wire.Assembly{},
		func(ctx context.Context, in *listed) (*answer[wire.Arrival], error) {
			var l wire.Assembly
			err := readListed(in.body, longestAssembly, map[string]func(*json.Decoder) error{
				"name": one(&l.Name), "root": one(&l.Root), "source": one(&l.Source),
				"files": eachOf(&l.Files, mostListed),
			})
			if err != nil {
				return nil, a.unread(err)
			}
			arrival, err := a.service.Arrivals.Assemble(ctx, l, userOf(ctx))
			return &answer[wire.Arrival]{arrival}, a.failed(err)
		})
}

// Bounds of what a request lists.
const (
	longestListing  = 48 << 20 // in bytes
	longestAssembly = 64 << 20
	mostListed      = 1_000_000 // files; the service's own limit, which is told better, is smaller
)
