// Package identitytest is a provider of identities for tests: it speaks OpenID Connect as far as the device flow needs, and issues what nobody should take.
package identitytest

import (
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"
)

// Provider is one that listens.
type Provider struct {
	// URL is its issuer.
	URL string

	t    *testing.T
	keys map[string]*rsa.PrivateKey
	mu   sync.Mutex
	// codes are the device codes that were given out, with the claims of whoever said who they are; nil is nobody yet.
	codes map[string]map[string]any
	// denied are those to whom somebody said no.
	denied map[string]bool
	// Polls is how often a device asked whether somebody has.
	polls int
	// Silent gives no ID token.
	Silent bool
}

// Client is the client that it knows.
const Client = "andamio"

// Start starts one, which ends with the test.
func Start(t *testing.T) *Provider {
	t.Helper()
	p := &Provider{t: t, keys: map[string]*rsa.PrivateKey{}, codes: map[string]map[string]any{}, denied: map[string]bool{}}
	for _, name := range []string{"ours", "another"} {
		key, err := rsa.GenerateKey(rand.Reader, 2048)
		require.NoError(t, err)
		p.keys[name] = key
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", p.discovery)
	mux.HandleFunc("GET /keys", p.jwks)
	mux.HandleFunc("POST /device", p.device)
	mux.HandleFunc("POST /token", p.token)
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	p.URL = s.URL
	return p
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func (p *Provider) discovery(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/auth", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys",
		"device_authorization_endpoint": p.URL + "/device", "id_token_signing_alg_values_supported": []string{"RS256"}, "response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}})
}

func (p *Provider) jwks(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.keys["ours"].Public(), KeyID: "ours", Algorithm: "RS256", Use: "sig"}}})
}

func (p *Provider) device(w http.ResponseWriter, r *http.Request) {
	if r.FormValue("client_id") != Client {
		answer(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
		return
	}
	code := rand.Text()
	p.mu.Lock()
	p.codes[code] = nil
	p.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{"device_code": code, "user_code": code[:8], "verification_uri": p.URL + "/say", "verification_uri_complete": p.URL + "/say?code=" + code[:8], "expires_in": 60, "interval": 1})
}

func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.polls++
	code := r.FormValue("device_code")
	said, known := p.codes[code]
	switch {
	case r.FormValue("grant_type") != "urn:ietf:params:oauth:grant-type:device_code" || !known:
		answer(w, http.StatusBadRequest, map[string]string{"error": "invalid_grant"})
	case p.denied[code]:
		answer(w, http.StatusBadRequest, map[string]string{"error": "access_denied", "error_description": "she said no"})
	case said == nil:
		answer(w, http.StatusBadRequest, map[string]string{"error": "authorization_pending"})
	case p.Silent:
		answer(w, http.StatusOK, map[string]any{"access_token": "x", "token_type": "Bearer"})
	default:
		answer(w, http.StatusOK, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": p.Issue(said)})
	}
}

// Say has somebody say who they are, to all who ask.
func (p *Provider) Say(claims map[string]any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for code := range p.codes {
		p.codes[code] = claims
	}
}

// Deny has somebody say no, to all who ask.
func (p *Provider) Deny() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for code := range p.codes {
		p.denied[code] = true
	}
}

// Polls is how often a device asked whether somebody has said who they are.
func (p *Provider) Polls() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.polls
}

// Claims are those of a token that holds for a while, with others in their place; one that is nil is left out.
func (p *Provider) Claims(others map[string]any) map[string]any {
	now := time.Now()
	out := map[string]any{"iss": p.URL, "aud": Client, "sub": "1", "iat": now.Unix(), "exp": now.Add(time.Hour).Unix()}
	maps.Copy(out, others)
	for name, v := range out {
		if v == nil {
			delete(out, name)
		}
	}
	return out
}

// Issue is an ID token with the usual claims and others.
func (p *Provider) Issue(others map[string]any) string { return p.Sign("ours", "ours", others) }

// Sign is an ID token that a key signed and that says that another did.
func (p *Provider) Sign(key, says string, others map[string]any) string {
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.keys[key], KeyID: says}}, nil)
	require.NoError(p.t, err)
	body, err := json.Marshal(p.Claims(others))
	require.NoError(p.t, err)
	signed, err := s.Sign(body)
	require.NoError(p.t, err)
	text, err := signed.CompactSerialize()
	require.NoError(p.t, err)
	return text
}
