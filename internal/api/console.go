package api

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/go-chi/chi/v5/middleware"
)

// compressed has text go out compressed, for clients that take it. A stream of events is not: it is to arrive at once.
var compressed = middleware.Compress(5, "application/json", "application/problem+json", "text/html", "text/css",
	"text/javascript", "text/plain", "image/svg+xml")

// nonceMark stands in the console's index page where each answer's own nonce
// goes.
const nonceMark = "__CSP_NONCE__"

// accepts reports whether a client takes an encoding (RFC 9110, section 12.5.3).
func accepts(r *http.Request, encoding string) bool {
	for _, header := range r.Header.Values("Accept-Encoding") {
		for part := range strings.SplitSeq(header, ",") {
			name, quality, _ := strings.Cut(part, ";")
			if strings.EqualFold(strings.TrimSpace(name), encoding) && strings.TrimSpace(quality) != "q=0" {
				return true
			}
		}
	}
	return false
}

// consoleHandler serves the built console: files by name, and the index page for
// every address that the console's own router knows. Scripts and styles run
// only with the nonce of the very answer.
func consoleHandler(files fs.FS) http.HandlerFunc {
	index, err := fs.ReadFile(files, "index.html")
	if err != nil {
		index = []byte("<!doctype html><title>Reshard</title><p>The console is not built. Run: make build")
	}
	static := http.FileServerFS(files)
	return func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(files, name); name != "" && name != "index.html" && err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") { // their names hold a hash of the content
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			w.Header().Add("Vary", "Accept-Encoding")
			if _, err := fs.Stat(files, name+".br"); err == nil && accepts(r, "br") {
				w.Header().Set("Content-Encoding", "br")
				w.Header().Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
				r.URL.Path += ".br"
			}
			static.ServeHTTP(w, r)
			return
		}
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			http.Error(w, "not here", http.StatusMethodNotAllowed)
			return
		}
		raw := make([]byte, 16)
		_, _ = rand.Read(raw) // never fails
		nonce := base64.StdEncoding.EncodeToString(raw)
		h := w.Header()
		h.Set("Content-Type", "text/html; charset=utf-8")
		h.Set("Cache-Control", "no-store")
		h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self' 'nonce-"+nonce+
			"'; style-src 'self' 'nonce-"+nonce+
			"'; font-src 'self'; img-src 'self' blob:; connect-src 'self'; worker-src 'self'; base-uri 'none'; "+
			"form-action 'self'; "+
			"frame-ancestors 'none'")
		_, _ = w.Write(bytes.ReplaceAll(index, []byte(nonceMark), []byte(nonce))) // the reader has gone if this fails
	}
}
