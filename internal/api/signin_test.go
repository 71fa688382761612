package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/identity/identitytest"
	"andamio/internal/service/acting"
	"andamio/internal/service/tokens"
	"andamio/internal/service/workspace"
)

// TestPeopleSignIn has people be known by the provider that the directory names, and nobody else, and no identity be used twice.
func TestPeopleSignIn(t *testing.T) {
	t.Parallel()
	limits := Usual
	limits.Strangers = 1000
	a, _, c := opened(t, limits)
	stranger := c.with("")
	none := stranger.ask("GET", "/sign-in", "")
	assert.Equal(t, http.StatusNotFound, none.status)
	assert.Contains(t, none.body, "nobody signs in here")
	p := identitytest.Start(t)
	teams := func(people string) {
		text := fmt.Sprintf("version: andamio.teams/1\nidentity: { issuer: %[1]q, client: andamio, claim: email }\npeople: { %[2]s: { user: %[2]s }%[3]s }\ngrants: [ { to: %[2]s, role: engineer }, { to: everybody, role: requester } ]\n", p.URL, acting.Whoami(), people)
		require.NoError(t, os.WriteFile(filepath.Join(a.Opened().Dir, workspace.FileTeams), []byte(text), 0o600))
	}
	teams(", ana: { identity: ana@ribera.test }")
	told := stranger.ask("GET", "/sign-in", "")
	require.Equal(t, http.StatusOK, told.status, told.body)
	assert.JSONEq(t, fmt.Sprintf(`{"issuer":%q,"client":"andamio","claim":"email"}`, p.URL), told.body)

	signIn := func(token string, lasts int) answer {
		body, err := json.Marshal(map[string]any{"id_token": token, "for_seconds": lasts})
		require.NoError(t, err)
		return stranger.ask("POST", "/sign-in", string(body))
	}
	hers := map[string]any{"email": "ana@ribera.test", "email_verified": true}
	first := p.Issue(hers)
	got := signIn(first, 3600)
	require.Equal(t, http.StatusCreated, got.status, got.body)
	var made tokens.Made
	require.NoError(t, json.Unmarshal([]byte(got.body), &made))
	assert.Equal(t, "ana", made.Of)
	assert.WithinDuration(t, time.Now().Add(time.Hour), made.Ends, time.Minute)
	mine := c.with(made.Secret).ask("GET", "/tokens", "")
	require.Equal(t, http.StatusOK, mine.status, mine.body)
	assert.NotContains(t, mine.body, acting.Whoami()+`"`)
	assert.Equal(t, http.StatusForbidden, c.with(made.Secret).ask("GET", "/clock", "").status, "she may what she may")

	again := signIn(first, 3600)
	assert.Equal(t, http.StatusConflict, again.status, "one that was seen on the way is of no use: %s", again.body)
	for want, token := range map[string]string{
		"the directory of teams does not": p.Issue(map[string]any{"email": "eva@ribera.test", "email_verified": true}),
		"has not verified":                p.Issue(map[string]any{"email": "ana@ribera.test"}),
		"not taken":                       p.Sign("another", "ours", hers),
	} {
		got := signIn(token, 3600)
		assert.Equal(t, http.StatusForbidden, got.status)
		assert.Contains(t, got.body, want)
		assert.NotContains(t, got.body, token)
	}
	assert.Equal(t, http.StatusBadRequest, signIn("x", 1<<30).status)
	keyed := stranger.ask("POST", "/sign-in", `{"id_token":"x"}`, "Idempotency-Key: k")
	assert.Equal(t, http.StatusBadRequest, keyed.status, "nothing of it is kept: %s", keyed.body)

	teams("") // whoever is known no more has no token any more
	assert.Equal(t, http.StatusUnauthorized, c.with(made.Secret).ask("GET", "/tokens", "").status)
	entries, err := a.LastOfTrail(t.Context(), 20)
	require.NoError(t, err)
	data, err := json.Marshal(entries)
	require.NoError(t, err)
	assert.Contains(t, string(data), "signed in")
	assert.NotContains(t, string(data), first)
	assert.NotContains(t, string(data), made.Secret)
}

func TestWhoTriesToSignInAgainAndAgainIsKeptOut(t *testing.T) {
	t.Parallel()
	limits := Usual
	limits.Strangers = 5
	_, _, c := opened(t, limits)
	stranger := c.with("")
	last := 0
	for range 10 {
		last = stranger.ask("POST", "/sign-in", `{"id_token":"x"}`).status
	}
	assert.Equal(t, http.StatusTooManyRequests, last)
	assert.Equal(t, http.StatusOK, c.ask("GET", "/tokens", "").status, "others are let in")
}
