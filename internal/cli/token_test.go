package cli

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/api"
	"andamio/internal/app"
	"andamio/internal/service/tokens"
)

// TestTokensFromTheCommandLine makes, lists, rotates and revokes, and tries what is wrong.
func TestTokensFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := t.TempDir()
	run := commands(t, ws)
	assert.Contains(t, run(0, "token"), "there are no tokens")
	said := run(0, "token", "make", "flood desk", "--right", "read,ask", "--deployment", "map*", "--from", "192.0.2.0/24", "--for", "24h")
	secret, rest, _ := strings.Cut(said, "\n")
	assert.True(t, strings.HasPrefix(secret, "andamio_"))
	assert.Contains(t, rest, "it is not told again")
	list := run(0, "token")
	assert.Regexp(t, `flood desk +\S+ +until .* read, ask; deployments map\*; from 192.0.2.0/24 +never used`, list)
	assert.NotContains(t, list, secret)
	id := strings.Fields(list)[0]
	for _, bad := range [][]string{{"make", "x", "--right", "sing"}, {"make", "\x1b["}, {"make", "x", "--for", "-1h"}, {"make", "x", "--for", "9000h"}, {"make", "x", "--from", "here"}, {"make"}, {"rotate", id, "--overlap", "-1s"}} {
		run(2, append([]string{"token"}, bad...)...)
	}
	var made tokens.Made
	require.NoError(t, json.Unmarshal([]byte(run(0, "token", "rotate", id, "--overlap", "10m", "--json")), &made))
	assert.NotEqual(t, secret, made.Secret)
	assert.WithinDuration(t, time.Now().Add(10*time.Minute), made.Until, time.Minute)
	assert.Contains(t, run(3, "token", "revoke", "nobodys"), `there is no token "nobodys" of yours`)
	assert.Contains(t, run(0, "token", "revoke", id), "is none any more")
	assert.Contains(t, run(0, "token"), "revoked ")
	assert.Contains(t, run(5, "token", "rotate", id), "was revoked: make another")
	log := run(0, "log")
	assert.Contains(t, log, "made the token")
	assert.Contains(t, log, "revoked the token")
	assert.NotContains(t, log+run(0, "log", "--json"), secret)
}

// TestProgramsAreServedWithACertificateOfAFirstDay makes one, uses it again, and lets nobody in who is not to be.
func TestProgramsAreServedWithACertificateOfAFirstDay(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	var said bytes.Buffer
	s := &shared{out: &said, err: &said}
	a, err := app.Open(t.Context(), dir, app.Idle())
	require.NoError(t, err)
	defer a.Close()
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	_, err = s.openAPI(ctx, a, programs{Where: api.Where{Address: "0.0.0.0:0"}})
	require.ErrorContains(t, err, "in clear on this machine alone")
	_, err = s.openAPI(ctx, a, programs{Where: api.Where{Address: "127.0.0.1:0", Clients: "x"}})
	require.ErrorContains(t, err, "only where the server has one")
	_, err = s.openAPI(ctx, a, programs{Where: api.Where{Address: "127.0.0.1:0", Certificate: "x", Key: "y"}})
	require.ErrorContains(t, err, "no certificate and its key")
	ended, err := s.openAPI(ctx, a, programs{})
	require.NoError(t, err)
	require.NoError(t, ended(), "nothing is served where nobody says where")

	for _, makes := range [][]string{{"localhost", "127.0.0.1"}, nil} { // made, and used again
		said.Reset()
		ended, err := s.openAPI(ctx, a, programs{Where: api.Where{Address: "127.0.0.1:0"}, makes: makes})
		require.NoError(t, err)
		_, at, _ := strings.Cut(said.String(), "programs at ")
		at, _, _ = strings.Cut(at, ";")
		require.True(t, strings.HasPrefix(at, "https://"), said.String())
		made, err := a.MakeToken(ctx, tokens.Wish{Name: "test"}, time.Now())
		require.NoError(t, err)
		for secret, want := range map[string]int{made.Secret: http.StatusOK, "": http.StatusUnauthorized} {
			resp, err := askTrusting(t, filepath.Join(dir, fileAuthority), at+"/tokens", secret)
			require.NoError(t, err)
			assert.Equal(t, want, resp.StatusCode)
			assert.Equal(t, 2, resp.ProtoMajor)
		}
		other, err := api.MakePair([]string{"localhost"}, time.Now())
		require.NoError(t, err)
		stranger := filepath.Join(t.TempDir(), "other.pem")
		require.NoError(t, os.WriteFile(stranger, other.Authority, 0o600))
		_, err = askTrusting(t, stranger, at+"/tokens", made.Secret)
		require.Error(t, err, "nobody else vouches for it")
		require.NoError(t, ended())
	}
}

// askTrusting asks a server that an authority vouches for.
func askTrusting(t *testing.T, authority, at, secret string) (*http.Response, error) {
	t.Helper()
	data, err := os.ReadFile(authority)
	require.NoError(t, err)
	trust := &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: x509.NewCertPool()}
	require.True(t, trust.RootCAs.AppendCertsFromPEM(data))
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, at, nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+secret)
	over := &http.Transport{TLSClientConfig: trust, ForceAttemptHTTP2: true}
	defer over.CloseIdleConnections()
	resp, err := (&http.Client{Timeout: 20 * time.Second, Transport: over}).Do(req)
	if err == nil {
		resp.Body.Close()
	}
	return resp, err
}
