package api

import (
	"log/slog"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httplog/v3"
)

// longestID bounds an id that a caller gives, in bytes.
const longestID = 100

// requestLog notes each request once it has been answered, with an id of its own, which the
// answer carries as X-Request-Id: whoever tells of trouble can name it. A caller may give
// the id itself. Neither bodies nor secrets are noted, and of what is answered as it should
// be only what a person or a program has asked for.
func requestLog(log *slog.Logger) func(http.Handler) http.Handler {
	noted := httplog.RequestLogger(log, &httplog.Options{
		Level:             slog.LevelInfo,
		Schema:            httplog.SchemaECS.Concise(true),
		LogRequestHeaders: []string{},
		Skip: func(r *http.Request, status int) bool {
			quiet := r.URL.Path == "/api/v1/health" || !strings.HasPrefix(r.URL.Path, "/api/")
			return quiet && status < http.StatusInternalServerError
		},
	})
	return func(next http.Handler) http.Handler {
		// The id is noted this way and not by LogExtraAttrs, for which the whole body of each
		// request would be kept in memory.
		named := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			httplog.SetAttrs(r.Context(), slog.String("id", middleware.GetReqID(r.Context())))
			next.ServeHTTP(w, r)
		})
		withID := middleware.RequestID(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set(middleware.RequestIDHeader, middleware.GetReqID(r.Context()))
			noted(named).ServeHTTP(w, r)
		}))
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if len(r.Header.Get(middleware.RequestIDHeader)) > longestID {
				r.Header.Del(middleware.RequestIDHeader)
			}
			withID.ServeHTTP(w, r)
		})
	}
}
