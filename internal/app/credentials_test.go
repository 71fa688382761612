package app

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/workspace"
)

// another is the workspace as another process has it.
func another(t *testing.T, a *App) *App {
	t.Helper()
	b, err := Open(ctx, a.workspace.Dir, Idle())
	require.NoError(t, err)
	t.Cleanup(func() { b.Close() })
	return b
}

// TestCredentialsChangedSideBySideAreAllGood changes all credentials at once, each from a process of its own, while sites
// are connected and removed: every one that is kept is good.
func TestCredentialsChangedSideBySideAreAllGood(t *testing.T) {
	t.Parallel()
	a, box, c := unconnected(t)
	for _, e := range box.Endpoints {
		if e.Site == "vega" {
			continue
		}
		c := workspace.Connection{Site: e.Site, Kind: e.Kind, TimeZone: "UTC"}
		tell(t, &c, workspace.Values{"url": e.URL, "token": e.Token})
		_, err := a.Connect(ctx, c)
		require.NoError(t, err)
	}
	var group sync.WaitGroup
	for range 2 {
		for _, e := range box.Endpoints {
			b := another(t, a)
			group.Go(func() {
				if e.Site == "vega" {
					_, _ = b.Connect(ctx, c) // one of the two is told that it is connected
					return
				}
				assert.NoError(t, b.Rotate(ctx, e.Site, ""))
			})
		}
	}
	group.Wait()
	all, err := a.workspace.Connections()
	require.NoError(t, err)
	require.Len(t, all, len(box.Endpoints))
	for _, c := range all {
		assert.False(t, c.Changing, c.Site)
		c.Renew = nil
		_, err := c.Access(ctx)
		assert.NoError(t, err, c.Site)
	}
}

// cutting is a site that breaks off around a change of its credential.
type cutting struct {
	*httptest.Server
	before, after func() bool // whether the call is lost on its way there, or back
}

func cut(t *testing.T, to string) *cutting {
	t.Helper()
	u, err := url.Parse(to)
	require.NoError(t, err)
	no := func() bool { return false }
	x := &cutting{before: no, after: no}
	proxy := httputil.NewSingleHostReverseProxy(u)
	x.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rotates := r.Method == http.MethodPost && strings.Contains(r.URL.Path, "access")
		if rotates && x.before() {
			panic(http.ErrAbortHandler)
		}
		got := httptest.NewRecorder()
		proxy.ServeHTTP(got, r)
		if rotates && x.after() {
			panic(http.ErrAbortHandler)
		}
		w.WriteHeader(got.Code)
		_, _ = w.Write(got.Body.Bytes())
	}))
	t.Cleanup(x.Close)
	return x
}

func good(t *testing.T, a *App) {
	t.Helper()
	c, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	assert.False(t, c.Changing)
	candidate, err := a.workspace.Vault.Get(workspace.ShelfCandidates, "vega")
	require.NoError(t, err)
	assert.Empty(t, candidate)
	c.Renew = nil
	_, err = c.Access(ctx)
	assert.NoError(t, err, "what is kept is good")
}

// TestAChangeOfACredentialThatBreaksOffIsSettled loses the call on its way there, its answer, and the disk afterwards.
func TestAChangeOfACredentialThatBreaksOffIsSettled(t *testing.T) {
	t.Parallel()
	a, _, c := unconnected(t)
	site := cut(t, c.Address())
	tell(t, &c, workspace.Values{"url": site.URL})
	_, err := a.Connect(ctx, c)
	require.NoError(t, err)
	yes := func() bool { return true }
	no := func() bool { return false }

	site.before = yes
	require.Error(t, a.Rotate(ctx, "vega", ""))
	site.before = no
	good(t, a)

	site.after = yes
	require.Error(t, a.Rotate(ctx, "vega", ""), "the answer was lost")
	site.after = no
	good(t, a)

	was, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	ended, end := context.WithCancel(ctx)
	site.after = func() bool { end(); return true } // the process ends when the site has changed it
	require.Error(t, a.Rotate(ended, "vega", ""))
	site.after = no
	now, err := a.workspace.Connection("vega")
	require.NoError(t, err)
	assert.True(t, now.Changing)
	assert.Equal(t, was.Credential(), now.Credential(), "nobody knows yet which is good")
	good(t, another(t, a)) // a start finds out
}

// TestACredentialIsNotChangedIfItCannotBeKept has nothing be written any more, as on a full disk.
func TestACredentialIsNotChangedIfItCannotBeKept(t *testing.T) {
	t.Parallel()
	a, _, c := unconnected(t)
	ofAFolder(t, a)
	rotated := 0
	site := cut(t, c.Address())
	site.before = func() bool { rotated++; return false }
	tell(t, &c, workspace.Values{"url": site.URL})
	_, err := a.Connect(ctx, c)
	require.NoError(t, err)
	dir := a.workspace.Dir
	require.NoError(t, os.Rename(a.workspace.Path("credentials.age"), a.workspace.Path("kept.age")))
	require.NoError(t, os.MkdirAll(a.workspace.Path("credentials.age/in-the-way"), 0o700)) // nothing can take its name
	err = a.Rotate(ctx, "vega", "")
	require.Error(t, err)
	require.NoError(t, os.RemoveAll(a.workspace.Path("credentials.age")))
	require.NoError(t, os.Rename(a.workspace.Path("kept.age"), a.workspace.Path("credentials.age")))
	assert.Zero(t, rotated, "the site was not asked")
	good(t, another(t, a))
	assert.DirExists(t, dir)
}

func TestFirstUseUnderAnotherNameIsNotLost(t *testing.T) {
	t.Parallel()
	a, box, c := unconnected(t)
	tell(t, &c, workspace.Values{"token": box.Account("vega", "deploy-bot", true, "read", "create", "change", "delete")})
	c.Site = "vgea"
	_, err := a.Connect(ctx, c)
	require.ErrorContains(t, err, "connected as vega now")
	good(t, a)
	all, err := a.workspace.Connections()
	require.NoError(t, err)
	require.Len(t, all, 1)
}

func TestCandidatesAreNeverShown(t *testing.T) {
	t.Parallel()
	a, _, c := unconnected(t)
	_, err := a.Connect(ctx, c)
	require.NoError(t, err)
	require.NoError(t, a.workspace.ProposeCredential(ctx, "vega", "a-candidate-nobody-may-see"))
	text, err := a.workspace.Files().Read(workspace.FileSites)
	require.NoError(t, err)
	assert.NotContains(t, string(text), "a-candidate")
	all, err := a.workspace.Connections()
	require.NoError(t, err)
	told, err := json.Marshal(all)
	require.NoError(t, err)
	assert.NotContains(t, string(told), "a-candidate")
	assert.True(t, slices.ContainsFunc(all, func(c workspace.Connection) bool { return c.Changing }))
}
