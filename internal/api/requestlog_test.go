package api

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestARequestIsNotedOnceWithItsID(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	h := requestLog(slog.New(slog.NewJSONHandler(&out, nil)))(http.HandlerFunc(
		func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/api/v1/broken" {
				w.WriteHeader(http.StatusInternalServerError)
			}
		}))
	ask := func(path string, header ...string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(http.MethodGet, path, strings.NewReader("a body that is nobody's business"))
		r.Header.Set("Authorization", "Bearer secret-token")
		if len(header) > 0 {
			r.Header.Set("X-Request-Id", header[0])
		}
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w
	}
	for _, path := range []string{"/api/v1/health", "/assets/index.js", "/servers"} {
		ask(path)
	}
	assert.Empty(t, out.String(), "what goes on by itself is not noted")

	id := ask("/api/v1/servers").Header().Get("X-Request-Id")
	require.NotEmpty(t, id)
	var line map[string]any
	require.NoError(t, json.Unmarshal(out.Bytes(), &line), out.String())
	assert.Equal(t, id, line["id"])
	assert.Equal(t, "INFO", line["level"])
	assert.Contains(t, out.String(), "/api/v1/servers")
	assert.NotContains(t, out.String(), "secret-token")
	assert.NotContains(t, out.String(), "business")

	out.Reset()
	assert.Equal(t, "mine", ask("/api/v1/broken", "mine").Header().Get("X-Request-Id"))
	assert.Contains(t, out.String(), `"level":"ERROR"`)
	assert.Contains(t, out.String(), `"id":"mine"`)
}
