package occi

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/site"
)

// TestNoCallFollowsARedirect has a site send every call elsewhere: there, nothing arrives, least of all the token.
func TestNoCallFollowsARedirect(t *testing.T) {
	reached := 0
	elsewhere := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { reached++ }))
	defer elsewhere.Close()
	for _, code := range []int{301, 302, 303, 307, 308} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, elsewhere.URL+r.URL.Path+"?credential=xyz", code)
		}))
		d := New("vega", s.URL, "very-secret-token")
		for name, call := range calls(d) {
			err := call()
			require.Error(t, err, "%s %d", name, code)
			assert.ErrorContains(t, err, elsewhere.URL, fmt.Sprint(name, code))
			assert.NotContains(t, err.Error(), "xyz")
			assert.Equal(t, site.Refused, site.ClassOf(err), "%s %d", name, code)
		}
		s.Close()
	}
	assert.Zero(t, reached)
}

// TestATokenThatWasChangedByOthersIsAskedFor has the site know another token than the driver began with.
func TestATokenThatWasChangedByOthersIsAskedFor(t *testing.T) {
	asked := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		if r.Header.Get("Authorization") != "Bearer new" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		fmt.Fprint(w, `{"attributes":{}}`)
	}))
	defer s.Close()
	d := New("vega", s.URL, "old")
	_, err := d.Access(t.Context())
	require.Error(t, err, "nobody knows another")
	now := "old"
	d.Renew(func() string { return now })
	_, err = d.Access(t.Context())
	require.Error(t, err, "it is the same one")
	assert.Equal(t, 2, asked)
	now = "new"
	_, err = d.Access(t.Context())
	require.NoError(t, err)
	_, err = d.Self(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 5, asked, "once it is known it is used")
}
