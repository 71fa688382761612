package identity_test

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/identity"
	"andamio/internal/identity/identitytest"
)

func of(p *identitytest.Provider, claim string) guard.Identity {
	return guard.Identity{Issuer: p.URL, Client: identitytest.Client, Claim: claim}
}

// TestWhatAProviderSaysIsTakenIfItIsTrue has tokens that hold, and every sort of one that does not.
func TestWhatAProviderSaysIsTakenIfItIsTrue(t *testing.T) {
	p, other := identitytest.Start(t), identitytest.Start(t)
	now := time.Now()
	unsigned := func(claims map[string]any) string {
		body, err := json.Marshal(p.Claims(claims))
		require.NoError(t, err)
		head := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`))
		return head + "." + base64.RawURLEncoding.EncodeToString(body) + "."
	}
	whole := p.Issue(map[string]any{"sub": "7"})
	parts := strings.Split(whole, ".")
	changed := parts[0] + "." + base64.RawURLEncoding.EncodeToString([]byte(`{"iss":"`+p.URL+`","aud":"andamio","sub":"8"}`)) + "." + parts[2]
	for name, c := range map[string]struct{ token, claim, is, want string }{
		"by its subject":            {whole, "", "7", ""},
		"by its mail":               {p.Issue(map[string]any{"email": "ana@ribera.test", "email_verified": true}), guard.ByEmail, "ana@ribera.test", ""},
		"by its name":               {p.Issue(map[string]any{"preferred_username": "ana"}), guard.ByUsername, "ana", ""},
		"for several":               {p.Issue(map[string]any{"aud": []string{"other", "andamio"}, "sub": "7"}), "", "7", ""},
		"mail that is not verified": {p.Issue(map[string]any{"email": "ana@ribera.test"}), guard.ByEmail, "", "has not verified"},
		"mail that is refused":      {p.Issue(map[string]any{"email": "ana@ribera.test", "email_verified": false}), guard.ByEmail, "", "has not verified"},
		"no mail":                   {p.Issue(nil), guard.ByEmail, "", "it says no email"},
		"no name":                   {p.Issue(nil), guard.ByUsername, "", "it says no preferred_username"},
		"another's key":             {p.Sign("another", "ours", nil), "", "", "not taken"},
		"a key nobody knows":        {p.Sign("another", "another", nil), "", "", "not taken"},
		"signed by nobody":          {unsigned(nil), "", "", "not taken"},
		"changed":                   {changed, "", "", "not taken"},
		"of another provider":       {other.Issue(nil), "", "", "not taken"},
		"says it is of another":     {p.Issue(map[string]any{"iss": other.URL}), "", "", "not taken"},
		"for another client":        {p.Issue(map[string]any{"aud": "other"}), "", "", "not taken"},
		"over":                      {p.Issue(map[string]any{"exp": now.Add(-time.Minute).Unix()}), "", "", "not taken"},
		"never over":                {p.Issue(map[string]any{"exp": nil}), "", "", "not taken"},
		"old":                       {p.Issue(map[string]any{"iat": now.Add(-identity.Fresh - time.Minute).Unix()}), "", "", "sign in again"},
		"of tomorrow":               {p.Issue(map[string]any{"iat": now.Add(time.Hour).Unix()}), "", "", "sign in again"},
		"of no time":                {p.Issue(map[string]any{"iat": nil}), "", "", "sign in again"},
		"not yet":                   {p.Issue(map[string]any{"nbf": now.Add(30 * time.Minute).Unix()}), "", "", "not taken"},
		"nothing":                   {"", "", "", "not taken"},
		"no token":                  {"a.b.c", "", "", "not taken"},
		"long":                      {strings.Repeat("a", 1<<20), "", "", "not taken"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := identity.Verify(t.Context(), of(p, c.claim), c.token, now)
			assert.Equal(t, c.is, got)
			if c.want == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.want)
			assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
			if len(c.token) > 20 {
				assert.NotContains(t, err.Error(), c.token, "nobody is told the token")
			}
		})
	}
}

func TestSomebodySaysWhoTheyAre(t *testing.T) {
	p := identitytest.Start(t)
	asked, err := identity.Ask(t.Context(), of(p, ""))
	require.NoError(t, err)
	assert.Equal(t, p.URL+"/say", asked.URL)
	assert.Len(t, asked.Code, 8)
	assert.Contains(t, asked.Whole, asked.Code)
	assert.WithinDuration(t, time.Now().Add(time.Minute), asked.Until, 10*time.Second)
	done := make(chan string, 1)
	go func() {
		token, err := asked.Wait(t.Context())
		assert.NoError(t, err)
		done <- token
	}()
	require.Eventually(t, func() bool { return p.Polls() > 0 }, 20*time.Second, 10*time.Millisecond, "it is asked again and again")
	p.Say(map[string]any{"sub": "7"})
	who, err := identity.Verify(t.Context(), of(p, ""), <-done, time.Now())
	require.NoError(t, err)
	assert.Equal(t, "7", who)
}

func TestWhatKeepsSomebodyFromSigningInIsSaid(t *testing.T) {
	p := identitytest.Start(t)
	wait := func(after func()) error {
		asked, err := identity.Ask(t.Context(), of(p, ""))
		require.NoError(t, err)
		after()
		ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
		defer cancel()
		_, err = asked.Wait(ctx)
		return err
	}
	assert.ErrorContains(t, wait(p.Deny), "she said no")
	assert.ErrorContains(t, wait(func() { p.Silent = true; p.Say(map[string]any{}) }), "gives no ID token")
	strange := of(p, "")
	strange.Client = "stranger"
	_, err := identity.Ask(t.Context(), strange)
	assert.ErrorContains(t, err, "invalid_client")
	for name, answer := range map[string]string{"no provider": "", "another's": `{"issuer":"https://elsewhere.test"}`, "endless": strings.Repeat(" ", 4<<20)} {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(answer)) }))
		defer s.Close()
		_, err := identity.Ask(t.Context(), guard.Identity{Issuer: s.URL, Client: "andamio"})
		assert.Equal(t, fault.Unavailable, fault.CodeOf(err), "%s: %v", name, err)
		_, err = identity.Verify(t.Context(), guard.Identity{Issuer: s.URL, Client: "andamio"}, "a.b.c", time.Now())
		assert.Equal(t, fault.Unavailable, fault.CodeOf(err), "%s: %v", name, err)
	}
}
