package api

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/accounts"
	"reshard/internal/records/recordstest"
	"reshard/internal/service"
	"reshard/internal/wire"
)

func TestMain(m *testing.M) { recordstest.Main(m) }

// desk is the whole interface over a service without a server or a world.
type desk struct {
	handler http.Handler
	service *service.Service
	secret  string
	routes  []route
}

// route is one call as the description tells it.
type route struct {
	method, path string
	op           *huma.Operation
	// body is the least that its schema takes; "" when it takes none.
	body string
}

func (r route) String() string { return r.method + " " + r.path }

// at is its address, with every part of the path named alike and what it must be asked.
func (r route) at(name string) string {
	parts := strings.Split(r.path, "/")
	for i, p := range parts {
		if strings.HasPrefix(p, "{") {
			parts[i] = name
		}
	}
	asked := url.Values{}
	for _, p := range r.op.Parameters {
		if p.In == "query" && p.Required {
			asked.Set(p.Name, "nowhere")
		}
	}
	return (&url.URL{Path: "/api" + strings.Join(parts, "/"), RawQuery: asked.Encode()}).String()
}

func setup(t *testing.T) *desk {
	t.Helper()
	return setupOn(t, recordstest.Database(t))
}

func setupOn(t *testing.T, database string) *desk {
	t.Helper()
	ctx := context.Background()
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	s, err := service.Open(ctx, service.Config{Data: t.TempDir(), Database: database, Log: quiet})
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() }) // a test may have closed it
	require.NoError(t, s.Accounts.Add(ctx, "bryn", "marrows and leeks"))
	token, err := s.Accounts.SignIn(ctx, accounts.Attempt{Name: "bryn", Password: "marrows and leeks", Kind: "token"})
	require.NoError(t, err)
	d := &desk{handler: Handler(s, nil, quiet), service: s, secret: token.Secret}
	d.routes = routesOf(t, d)
	return d
}

// routesOf reads the routes from what the service says of itself.
func routesOf(t *testing.T, d *desk) (out []route) {
	t.Helper()
	w := d.ask(http.MethodGet, "/api/openapi.json", "")
	require.Equal(t, http.StatusOK, w.Code)
	var doc struct {
		Paths      map[string]*huma.PathItem `yaml:"paths"`
		Components struct {
			Schemas map[string]*huma.Schema `yaml:"schemas"`
		} `yaml:"components"`
	}
	require.NoError(t, yaml.Unmarshal(w.Body.Bytes(), &doc)) // the library names its fields for YAML
	for path, item := range doc.Paths {
		for method, op := range map[string]*huma.Operation{
			"GET": item.Get, "POST": item.Post, "PUT": item.Put, "PATCH": item.Patch, "DELETE": item.Delete,
		} {
			if op == nil {
				continue
			}
			r := route{method: method, path: path, op: op}
			if op.RequestBody != nil && op.RequestBody.Content["application/json"] != nil {
				b, err := json.Marshal(least(op.RequestBody.Content["application/json"].Schema, doc.Components.Schemas))
				require.NoError(t, err)
				r.body = string(b)
			}
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b route) int { return strings.Compare(a.String(), b.String()) })
	require.Greater(t, len(out), 60)
	return out
}

// least is the smallest value that a schema takes.
func least(s *huma.Schema, all map[string]*huma.Schema) any {
	if name, ok := strings.CutPrefix(s.Ref, "#/components/schemas/"); ok {
		s = all[name]
	}
	switch {
	case len(s.Enum) > 0:
		return s.Enum[0]
	case s.Type == huma.TypeObject:
		out := map[string]any{}
		for _, name := range s.Required {
			out[name] = least(s.Properties[name], all)
		}
		return out
	case s.Type == huma.TypeArray:
		if s.MinItems != nil && *s.MinItems > 0 {
			return []any{least(s.Items, all)}
		}
		return []any{}
	case s.Type == huma.TypeInteger, s.Type == huma.TypeNumber:
		return 1
	case s.Type == huma.TypeBoolean:
		return true
	default:
		if len(s.Examples) > 0 {
			return s.Examples[0]
		}
		if s.MinLength != nil && *s.MinLength > len("nowhere") {
			return strings.Repeat("n", *s.MinLength)
		}
		return "nowhere"
	}
}

// ask asks as bryn; change may make it another's request.
func (d *desk) ask(method, address, body string, change ...func(*http.Request)) *httptest.ResponseRecorder {
	var content io.Reader = http.NoBody
	if body != "" {
		content = strings.NewReader(body)
	}
	r := httptest.NewRequest(method, address, content)
	r.Header.Set("Authorization", "Bearer "+d.secret)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for _, c := range change {
		c(r)
	}
	w := httptest.NewRecorder()
	d.handler.ServeHTTP(w, r)
	return w
}

// wrong is something wrong with a request, or with what the service stands on.
type wrong struct {
	name string
	// of tells for which routes there is such a fault.
	of  func(route) bool
	ask func(*desk, route) *httptest.ResponseRecorder
	// status and code are the answer.
	status int
	code   string
}

func always(route) bool      { return true }
func takesJSON(r route) bool { return r.body != "" }
func guarded(r route) bool   { return r.path != "/v1/health" && r.path != "/v1/sign-in" }
func changes(r route) bool   { return r.method != http.MethodGet }
func (r route) named(kind string) bool {
	return slices.ContainsFunc(r.op.Parameters, func(p *huma.Param) bool {
		return p.In == "path" && p.Schema.Type == kind
	})
}

// Every call answers every fault with a problem of its kind, told in words with a next
// step; no call has a way of its own.
func TestEveryRouteUnderEveryFault(t *testing.T) {
	t.Parallel()
	d := setup(t)
	plain := func(r route) *httptest.ResponseRecorder { return d.ask(r.method, r.at("1"), r.body) }
	header := func(name, value string) func(*http.Request) {
		return func(r *http.Request) { r.Header.Set(name, value) }
	}
	for _, f := range []wrong{
		{
			name: "nobody asks", of: guarded, status: http.StatusUnauthorized, code: "denied",
			ask: func(d *desk, r route) *httptest.ResponseRecorder {
				return d.ask(r.method, r.at("1"), r.body, func(r *http.Request) { r.Header.Del("Authorization") })
			},
		},
		{
			name: "a stranger's token", of: guarded, status: http.StatusUnauthorized, code: "denied",
			ask: func(d *desk, r route) *httptest.ResponseRecorder {
				return d.ask(r.method, r.at("1"), r.body, header("Authorization", "Bearer x"))
			},
		},
		{
			name: "another site's page", of: changes, status: http.StatusForbidden, code: "not-allowed",
			ask: func(d *desk, r route) *httptest.ResponseRecorder {
				return d.ask(r.method, r.at("1"), r.body, header("Sec-Fetch-Site", "cross-site"))
			},
		},
		{
			name: "a body cut off", of: takesJSON, status: http.StatusBadRequest, code: "invalid",
			ask: func(d *desk, r route) *httptest.ResponseRecorder {
				return d.ask(r.method, r.at("1"), r.body[:len(r.body)-1])
			},
		},
		{
			name: "a field that there is not", of: takesJSON, status: http.StatusUnprocessableEntity, code: "invalid",
			ask: func(d *desk, r route) *httptest.ResponseRecorder {
				return d.ask(r.method, r.at("1"), strings.Replace(`{"marrow":1,`+r.body[1:], ",}", "}", 1))
			},
		},
		{
			name: "a method that it does not take", of: always, status: http.StatusMethodNotAllowed, code: "invalid",
			ask: func(d *desk, r route) *httptest.ResponseRecorder { return d.ask(http.MethodTrace, r.at("1"), "") },
		},
		{
			name: "a number that is none", of: func(r route) bool { return r.named(huma.TypeInteger) },
			status: http.StatusUnprocessableEntity, code: "invalid",
			ask: func(d *desk, r route) *httptest.ResponseRecorder { return d.ask(r.method, r.at("x"), r.body) },
		},
		{
			name: "a NUL in the address", of: func(r route) bool { return strings.Contains(r.path, "{") },
			status: http.StatusUnprocessableEntity, code: "invalid",
			ask: func(d *desk, r route) *httptest.ResponseRecorder {
				return d.ask(r.method, strings.Replace(r.at("ZZ"), "ZZ", "a%00b", 1), r.body)
			},
		},
		{
			name: "a NUL in what is asked", of: always, status: http.StatusUnprocessableEntity, code: "invalid",
			ask: func(d *desk, r route) *httptest.ResponseRecorder {
				at := r.at("1")
				return d.ask(r.method, at+map[bool]string{
					true:  "&",
					false: "?",
				}[strings.Contains(at, "?")]+"search=%00", r.body)
			},
		},
		{
			name: "a name of nothing", of: func(r route) bool { return strings.Contains(r.path, "{") },
			status: http.StatusNotFound, code: "not-found",
			ask: func(_ *desk, r route) *httptest.ResponseRecorder { return plain(r) },
		},
	} {
		t.Run(f.name, func(t *testing.T) {
			t.Parallel()
			for _, r := range d.routes {
				if f.of(r) {
					told(t, f.ask(d, r), f.status, f.code, r.String())
				}
			}
		})
	}
}

// A database that is away is told as that by every call, at once and with what to do.
func TestEveryRouteWithoutItsDatabase(t *testing.T) {
	t.Parallel()
	database := recordstest.Database(t)
	d := setupOn(t, database)
	recordstest.Close(t, database)
	for _, r := range d.routes {
		p := told(t, d.ask(r.method, r.at("1"), r.body), http.StatusServiceUnavailable, "unreachable", r.String())
		assert.Contains(t, p.Detail, "the database", r.String())
		assert.Contains(t, p.Next, "by itself", r.String())
	}
}

// told asserts that an answer is the problem it should be, told for people.
func told(t *testing.T, w *httptest.ResponseRecorder, status int, code, of string) (p wire.Problem) {
	t.Helper()
	if !assert.Equal(t, status, w.Code, "%s: %s", of, w.Body) {
		return p
	}
	assert.Equal(t, "application/problem+json", w.Header().Get("Content-Type"), of)
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &p), of)
	assert.Equal(t, code, p.Code, of)
	assert.NotEmpty(t, p.Detail, of)
	return p
}
