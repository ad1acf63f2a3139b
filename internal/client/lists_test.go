package client_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"reshard/internal/client"
	"reshard/internal/core/fault"
	"reshard/internal/wire"
)

// pages answers like the service: three pages of servers, and what was asked for each.
func pages(t *testing.T) (*client.Client, *[]url.Values) {
	t.Helper()
	var asked []url.Values
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		asked = append(asked, q)
		n := len(q.Get("after"))
		if n < 2 {
			next := url.Values{"after": {q.Get("after") + "x"}, "limit": {q.Get("limit")}}
			w.Header().Set("Link", fmt.Sprintf("<%s?%s>; rel=\"next\"", r.URL.Path, next.Encode()))
		}
		assert.NoError(t, json.NewEncoder(w).Encode([]wire.Server{
			{Name: fmt.Sprint("a", n)},
			{Name: fmt.Sprint("b", n)},
		}))
	}))
	t.Cleanup(s.Close)
	c, err := client.New(s.URL, "token")
	require.NoError(t, err)
	return c, &asked
}

func TestAListIsReadPageByPage(t *testing.T) {
	t.Parallel()
	c, asked := pages(t)
	list, err := c.Servers(t.Context(), wire.ServerQuery{Search: "a b", Game: "quarrymoss", Order: "-name"})
	require.NoError(t, err)
	require.Len(t, list, 6)
	assert.Equal(t, "b2", list[5].Name)
	require.Len(t, *asked, 3)
	assert.Equal(t, url.Values{
		"search": {"a b"}, "game": {"quarrymoss"}, "order": {"-name"}, "limit": {"1000"},
	}, (*asked)[0], "what is empty is not asked for, and pages are large")
	assert.Equal(t, "xx", (*asked)[2].Get("after"))
}

func TestNoMoreIsReadThanIsAskedFor(t *testing.T) {
	t.Parallel()
	c, asked := pages(t)
	list, err := c.Servers(t.Context(), wire.ServerQuery{Part: wire.Part{Limit: 2}})
	require.NoError(t, err)
	assert.Len(t, list, 2)
	require.Len(t, *asked, 1)
	assert.Equal(t, "2", (*asked)[0].Get("limit"))
}

func TestAListThatFailsMidwayIsAnError(t *testing.T) {
	t.Parallel()
	n := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if n++; n > 1 {
			w.WriteHeader(http.StatusServiceUnavailable)
			assert.NoError(t, json.NewEncoder(w).Encode(wire.Problem{Code: string(fault.Unreachable), Detail: "away"}))
			return
		}
		w.Header().Set("Link", `</api/v1/servers?after=x>; rel="next"`)
		_, _ = w.Write([]byte(`[{"name":"a"}]`))
	}))
	t.Cleanup(s.Close)
	c, err := client.New(s.URL, "token")
	require.NoError(t, err)
	list, err := c.Servers(t.Context(), wire.ServerQuery{})
	require.ErrorIs(t, err, fault.Unreachable.As())
	assert.Empty(t, list, "half a list is none")
}
