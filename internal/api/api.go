// Package api is the service's REST interface under /api/v1, described by
// OpenAPI 3.1 at /api/openapi.json, with problem documents (RFC 9457) and
// server-sent events. It also serves the console's files.
package api

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"path"
	"reflect"
	"runtime/debug"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"reshard/internal/core/fault"
	"reshard/internal/core/world"
	"reshard/internal/service"
	"reshard/internal/wire"
)

// cookieName is the console's session cookie.
const cookieName = "reshard_session"

// API answers requests for a service.
type API struct {
	service *service.Service
	log     *slog.Logger
	huma    huma.API
	// silence is how long a body may be without a byte.
	silence time.Duration
	// streaming and sending are what each person has open.
	streaming, sending shares
}

// Handler builds the whole HTTP interface. console holds the built console's
// files, nil when there are none.
func Handler(s *service.Service, console fs.FS, log *slog.Logger) http.Handler {
	a := &API{
		service: s, log: log, silence: silence,
		streaming: shares{what: "event stream", most: mostStreams}, sending: shares{what: "upload", most: mostUploads},
	}
	router := chi.NewRouter()
	router.Use(requestLog(log), a.recoverPanic, headers, compressed)
	router.Use(a.sameOrigin, a.writtenPlainly, a.paced)
	router.Route("/api", func(r chi.Router) {
		r.Use(a.authenticate)
		r.NotFound(func(w http.ResponseWriter, r *http.Request) {
			a.write(w, fault.New(fault.NotFound, "find", r.URL.Path, "the API has no such address").
				With("Read /api/openapi.json."))
		})
		r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
			p := problemOf(fault.New(fault.Invalid, r.Method, r.URL.Path, "the address does not take this method").
				With("Read /api/openapi.json."))
			p.Status = http.StatusMethodNotAllowed
			writeProblem(w, p)
		})
		a.huma = humachi.New(r, config())
		a.routes()
		if err := a.uploads(r); err != nil {
			log.Error("uploads are not taken", "error", err) // its settings are fixed: a defect
		}
	})
	if console != nil {
		router.NotFound(consoleHandler(console))
	}
	return behindProxy(s.Proxies(), router)
}

// Refusing answers every call in place of a service that does not act, with why.
func Refusing(why error) http.Handler {
	p := problemOf(why)
	return headers(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			writeProblem(w, p)
			return
		}
		http.Error(w, p.Detail+"\n"+p.Next, p.Status)
	}))
}

func config() huma.Config {
	c := huma.DefaultConfig("Reshard", "1")
	c.Info.Description = "Migrates, replaces, resets and backs up the worlds of game servers. Every call but health " +
		"and sign-in needs a session cookie or a token (Authorization: Bearer)."
	c.OpenAPIPath, c.DocsPath, c.SchemasPath = "/openapi", "", ""
	c.Servers = []*huma.Server{{URL: "/api"}}
	c.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	c.CreateHooks = nil // no $schema links in answers
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"session": {Type: "apiKey", In: "cookie", Name: cookieName},
	}
	c.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	return c
}

// schemaName keeps the names of package wire as they are and puts the package's
// name before those of the core, where several have a Step or a Sheet.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	pkg := path.Base(t.PkgPath())
	switch {
	case t == reflect.TypeFor[world.Facts]():
		return strings.Replace(name, "World", "WorldFacts", 1)
	case t.Name() == "" || pkg == "wire" || pkg == "api" || pkg == ".":
		return name
	}
	prefix := strings.ToUpper(pkg[:1]) + pkg[1:]
	if strings.HasPrefix(name, prefix) {
		return name
	}
	return prefix + name
}

// OpenAPI gives the interface's description as JSON.
func OpenAPI() ([]byte, error) {
	a := &API{}
	a.huma = humachi.New(chi.NewRouter(), config())
	a.routes()
	return a.huma.OpenAPI().MarshalJSON()
}

func (a *API) routes() {
	a.signInRoutes()
	a.gameRoutes()
	a.worldRoutes()
	a.arrivalRoutes()
	a.vaultRoutes()
	a.serverRoutes()
	a.changeoverRoutes()
	a.backupRoutes()
	a.storeRoutes()
	a.noticeRoutes()
	a.eventRoutes()
	describe(a.huma.OpenAPI().Components.Schemas)
}

type userKey struct{}

func userOf(ctx context.Context) string {
	name, _ := ctx.Value(userKey{}).(string)
	return name
}

// open lists what answers without a session or token.
func open(r *http.Request) bool {
	return r.URL.Path == "/api/v1/health" || (r.URL.Path == "/api/v1/sign-in" && r.Method == http.MethodPost)
}

func secretOf(r *http.Request) string {
	if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		return token
	}
	if c, err := r.Cookie(cookieName); err == nil {
		return c.Value
	}
	return ""
}

type secretKey struct{}

func (a *API) authenticate(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if open(r) {
			next.ServeHTTP(w, r)
			return
		}
		if err := a.service.Acting(); err != nil {
			a.write(w, err)
			return
		}
		secret := secretOf(r)
		if secret == "" {
			a.write(w, fault.New(fault.Denied, "sign in", "", "this needs a session or a token"))
			return
		}
		name, err := a.service.Accounts.UserOf(r.Context(), secret)
		if err != nil {
			a.write(w, err)
			return
		}
		signedInOver(r.Context())
		ctx := context.WithValue(context.WithValue(r.Context(), userKey{}, name), secretKey{}, secret)
		ctx, leave := a.service.Accounts.Stay(ctx, name, secret)
		defer leave()
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

func (a *API) recoverPanic(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			p := recover()
			if p == http.ErrAbortHandler { //nolint:errorlint // recover gives a value, not an error
				panic(p) // the connection is to be cut: what was sent is not whole
			}
			if p != nil {
				a.log.Error("panic", "path", r.URL.Path, "panic", p, "stack", string(debug.Stack()))
				a.write(w, errors.New("panic"))
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// sameOrigin refuses what another site has a browser ask for: a session cookie alone
// must not be enough.
func (a *API) sameOrigin(next http.Handler) http.Handler {
	p := http.NewCrossOriginProtection()
	p.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a.write(w, fault.New(fault.NotAllowed, r.Method, r.URL.Path, "the request comes from a page of another site").
			With("Open the console at the service's own address."))
	}))
	return p.Handler(next)
}

func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("X-Frame-Options", "DENY")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// statuses maps codes to HTTP statuses, once for all calls.
var statuses = map[fault.Code]int{
	fault.Invalid: http.StatusUnprocessableEntity, fault.NotFound: http.StatusNotFound,
	fault.Exists: http.StatusConflict,
	fault.Denied: http.StatusUnauthorized, fault.NotAllowed: http.StatusForbidden,
	fault.Unreachable: http.StatusServiceUnavailable, fault.Misbehaving: http.StatusBadGateway,
	fault.StandsBy: http.StatusServiceUnavailable,
	fault.TooSlow:  http.StatusGatewayTimeout, fault.StateUnknown: http.StatusConflict,
	fault.Refused: http.StatusConflict, fault.NotEmpty: http.StatusConflict,
	fault.Unsupported: http.StatusNotImplemented,
	fault.NotAWorld:   http.StatusUnprocessableEntity, fault.ManyWorlds: http.StatusUnprocessableEntity,
	fault.BadArchive: http.StatusUnprocessableEntity, fault.UnsafeArchive: http.StatusUnprocessableEntity,
	fault.TooLarge: http.StatusRequestEntityTooLarge, fault.NoSpace: http.StatusInsufficientStorage,
	fault.BadProfile: http.StatusUnprocessableEntity, fault.BadSettings: http.StatusUnprocessableEntity,
	fault.Blocked: http.StatusConflict, fault.NeedsChoice: http.StatusConflict, fault.Busy: http.StatusConflict,
	fault.Changed: http.StatusConflict, fault.WrongState: http.StatusConflict, fault.NotStopped: http.StatusConflict,
	fault.NotReady: http.StatusConflict, fault.NotProven: http.StatusConflict, fault.Interrupted: http.StatusConflict,
	fault.Held: http.StatusConflict, fault.CrossDevice: http.StatusConflict, fault.Damaged: http.StatusConflict,
	fault.Internal: http.StatusInternalServerError,
}

// problem is a problem document as huma wants its errors.
type problem struct{ wire.Problem }

func (p *problem) Error() string             { return p.Detail }
func (p *problem) GetStatus() int            { return p.Status }
func (p *problem) ContentType(string) string { return "application/problem+json" }

func problemOf(err error) *problem {
	code := fault.CodeOf(err)
	what, next := fault.Words(err)
	status := statuses[code]
	if status == 0 {
		status = http.StatusInternalServerError
	}
	return &problem{wire.Problem{
		Type: "urn:reshard:problem:" + string(code), Title: http.StatusText(status), Status: status,
		Detail: what, Code: string(code), Next: next, Options: fault.Options(err), Labels: fault.Labels(err),
	}}
}

// failed turns a service's error into a problem; what is not foreseen is logged
// with its text, which does not go out.
func (a *API) failed(err error) error {
	if err == nil {
		return nil
	}
	if fault.CodeOf(err) == fault.Internal {
		a.log.Error("call failed", "error", err)
	}
	return problemOf(err)
}

func (a *API) write(w http.ResponseWriter, err error) {
	_ = a.failed(err) // for the log
	writeProblem(w, problemOf(err))
}

func init() {
	huma.DefaultArrayNullable = false // lists in answers are never null
	// huma's own findings (a wrong field, a missing body) become problems too.
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		p := &problem{
			wire.Problem{Title: http.StatusText(status), Status: status, Detail: message, Code: string(fault.Invalid)},
		}
		if status == http.StatusInternalServerError {
			p.Code, p.Detail = string(fault.Internal), "Something went wrong inside Reshard."
		}
		p.Type = "urn:reshard:problem:" + p.Code
		for _, err := range errs {
			var d *huma.ErrorDetail
			if errors.As(err, &d) {
				p.Errors = append(p.Errors, wire.FieldError{Location: d.Location, Message: d.Message})
			}
		}
		return p
	}
}

// op describes an operation; every one may answer with a problem.
func op(id, method, path, summary, tag string) huma.Operation {
	return huma.Operation{
		OperationID: id,
		Method:      method,
		Path:        "/v1" + path,
		Summary:     summary,
		Tags:        []string{tag},
		Errors:      []int{},
	}
}

// answer wraps a body.
type answer[T any] struct{ Body T }

// heartbeat keeps proxies from closing a quiet event stream.
const heartbeat = 15 * time.Second
