package api

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/golden"
	"andamio/internal/sandbox"
	"andamio/internal/service/tokens"
)

// client is a program that comes with a token.
type client struct {
	t      *testing.T
	at     string
	secret string
	over   *http.Client
}

// answer is what a program is answered.
type answer struct {
	status int
	header http.Header
	body   string
}

// value reads the answer as a value.
func (a answer) value(t *testing.T, into any) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(a.body), into), a.body)
}

// ask asks for an operation: header is NAME: VALUE.
func (c client) ask(method, path, body string, header ...string) answer {
	c.t.Helper()
	req, err := http.NewRequestWithContext(c.t.Context(), method, c.at+path, strings.NewReader(body))
	require.NoError(c.t, err)
	if c.secret != "" {
		req.Header.Set("Authorization", "Bearer "+c.secret)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for _, h := range header {
		name, v, _ := strings.Cut(h, ": ")
		req.Header.Set(name, v)
	}
	resp, err := c.over.Do(req)
	require.NoError(c.t, err)
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	require.NoError(c.t, err)
	return answer{resp.StatusCode, resp.Header, string(data)}
}

// with is the same program with another token.
func (c client) with(secret string) client {
	c.secret = secret
	return c
}

// small is an estate of one stand-in cloud.
func small() *estate.Estate {
	return &estate.Estate{Version: estate.Version, Currency: "cr", Sites: []*estate.Site{{Name: "vega", Kind: estate.Private, Network: estate.Address, Pace: 1,
		Zones: []estate.Zone{{Name: "a", Free: estate.Capacity{Cores: 64, MemoryGiB: 256, DiskGiB: 4096}}},
		Sizes: []estate.Size{{Name: "s", Cores: 1, MemoryGiB: 1, PricePerHour: 0.1}}, Images: []estate.Image{{Name: "debian-12", OS: "linux"}}}}}
}

// opened is a workspace with a stand-in that is served, and a program that may everything there.
func opened(t *testing.T, limits Limits) (*app.App, *Server, client) {
	t.Helper()
	box, err := sandbox.Start(sandbox.Config{Estate: small(), Pace: 0.01, Seed: 1})
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	ctx, cancel := context.WithCancel(context.WithoutCancel(t.Context()))
	a, err := app.Open(ctx, t.TempDir(), app.InProcess(ctx))
	require.NoError(t, err)
	t.Cleanup(func() { cancel(); a.Close() })
	require.NoError(t, a.ConnectSandbox(box))
	s := New(a, limits)
	h := httptest.NewServer(s.Handler())
	t.Cleanup(h.Close)
	return a, s, client{t, h.URL + "/" + Version, tokenOf(t, a, tokens.Wish{Name: "all"}), h.Client()}
}

// tokenOf makes a token.
func tokenOf(t *testing.T, a *app.App, w tokens.Wish) string {
	t.Helper()
	made, err := a.MakeToken(t.Context(), w, time.Now())
	require.NoError(t, err)
	return made.Secret
}

func TestWhoeverShowsNoTokenIsToldNothing(t *testing.T) {
	t.Parallel()
	a, s, c := opened(t, Usual)
	made, err := a.MakeToken(t.Context(), tokens.Wish{Name: "short"}, time.Now())
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, c.with(made.Secret).ask("GET", "/deployments", "").status)
	require.NoError(t, a.RevokeToken(t.Context(), made.ID, time.Now()))
	for _, secret := range []string{"", "x", made.Secret, made.Secret + "x", c.secret[:len(c.secret)-2] + "AA"} {
		for path, methods := range s.api.OpenAPI().Paths {
			if path == signIn { // where one gets a token
				continue
			}
			got := c.with(secret).ask("GET", strings.TrimPrefix(path, "/"+Version), "")
			if got.status == http.StatusTooManyRequests {
				return // who comes too often is not even looked at
			}
			require.Equal(t, http.StatusUnauthorized, got.status, "%s %v: %s", path, methods, got.body)
			require.Equal(t, `Bearer realm="andamio"`, got.header.Get("WWW-Authenticate"))
			require.Equal(t, "application/problem+json", got.header.Get("Content-Type"))
		}
	}
}

func TestTheDocumentIsWhole(t *testing.T) {
	t.Parallel()
	_, s, c := opened(t, Usual)
	got := c.ask("GET", "/openapi.json", "")
	require.Equal(t, http.StatusOK, got.status)
	var doc struct {
		OpenAPI string
		Paths   map[string]map[string]struct{ OperationID, Summary string }
	}
	got.value(t, &doc)
	assert.Equal(t, "3.1.0", doc.OpenAPI)
	seen := map[string]bool{}
	for path, all := range doc.Paths {
		assert.True(t, strings.HasPrefix(path, "/v1/"), path)
		for _, o := range all {
			assert.False(t, seen[o.OperationID], o.OperationID)
			seen[o.OperationID] = true
			assert.NotEmpty(t, o.Summary, o.OperationID)
		}
	}
	for _, x := range s.Twins() {
		assert.True(t, seen[x.Operation], x.Operation)
	}
	assert.Len(t, seen, len(s.Twins()))
	golden.Is(t, "../../docs/openapi.json", got.body+"\n")
}
