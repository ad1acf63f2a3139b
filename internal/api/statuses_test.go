package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// Every code has a status of its own choosing, and only who is not signed in is sent to
// sign in.
func TestEveryCodeHasAStatus(t *testing.T) {
	t.Parallel()
	for _, code := range fault.Codes() {
		status, ok := statuses[code]
		require.True(t, ok, "%s has no status", code)
		assert.GreaterOrEqual(t, status, 400, code)
		assert.Equal(t, code == fault.Denied, status == http.StatusUnauthorized, code)
		assert.Equal(t, code == fault.NotAllowed, status == http.StatusForbidden, code)
		p := problemOf(fault.New(code, "do", "it", "so it is"))
		assert.Equal(t, status, p.Status)
		assert.Equal(t, string(code), p.Code)
		assert.NotEmpty(t, p.Next, code)
	}
	late := problemOf(fault.Wrap(fault.Internal, "look at", "a host", context.DeadlineExceeded))
	assert.Equal(t, http.StatusGatewayTimeout, late.Status, "a limit of time is no defect")
	p := problemOf(errors.New("a secret"))
	assert.Equal(t, http.StatusInternalServerError, p.Status)
	assert.NotContains(t, p.Detail, "secret")
}

func TestRefusing(t *testing.T) {
	t.Parallel()
	h := Refusing(fault.New(fault.StandsBy, "", "", "another service acts: east"))
	for path, kind := range map[string]string{
		"/api/v1/health": "application/problem+json",
		"/":              "text/plain; charset=utf-8",
	} {
		w := httptest.NewRecorder()
		h.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		assert.Equal(t, http.StatusServiceUnavailable, w.Code)
		assert.Equal(t, kind, w.Header().Get("Content-Type"))
		assert.Contains(t, w.Body.String(), "another service acts: east")
		if kind == "application/problem+json" {
			var p wire.Problem
			require.NoError(t, json.Unmarshal(w.Body.Bytes(), &p))
			assert.Equal(t, string(fault.StandsBy), p.Code)
		}
	}
}

// A page of another site cannot use a person's session, and is told so in the form of
// every other answer.
func TestAnotherSite(t *testing.T) {
	t.Parallel()
	a := &API{}
	w := httptest.NewRecorder()
	r := httptest.NewRequest(http.MethodPost, "/api/v1/servers", nil)
	r.Header.Set("Sec-Fetch-Site", "cross-site")
	a.sameOrigin(http.NotFoundHandler()).ServeHTTP(w, r)
	assert.Equal(t, http.StatusForbidden, w.Code)
	assert.Contains(t, w.Body.String(), string(fault.NotAllowed))
}
