package web

import (
	"crypto/tls"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestARedirectIsAnErrorThatNamesItsTarget(t *testing.T) {
	reached := false
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached = true }))
	defer other.Close()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, strings.Replace(other.URL, "://", "://user:hunter22@", 1)+"/there?token=hunter22#hunter22", http.StatusTemporaryRedirect)
	}))
	defer s.Close()
	_, err := Client(time.Second, nil).Get(s.URL)
	var to *Redirected
	require.ErrorAs(t, err, &to)
	assert.Equal(t, "it sends us to "+other.URL+"/there, where nothing is sent: connect that address if it is meant", to.Error())
	assert.False(t, reached)
}

func TestAClientWaitsNoLongerThanItsPatience(t *testing.T) {
	end := make(chan struct{})
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-end }))
	defer s.Close()
	defer close(end)
	_, err := Client(30*time.Millisecond, nil).Get(s.URL)
	require.ErrorContains(t, err, "exceeded")
}

// TestTrust asks a server over TLS with each sort of trust.
func TestTrust(t *testing.T) {
	s := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer s.Close()
	s.Config.ErrorLog = nil
	authority := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}))
	for name, c := range map[string]struct {
		trust Trust
		says  string
	}{
		"nothing":       {Trust{}, "unknown authority"},
		"its authority": {Trust{Authorities: authority}, ""},
		"its pin too":   {Trust{Authorities: authority, Pin: PinOf(s.Certificate())}, ""},
		"its pin alone": {Trust{Pin: PinOf(s.Certificate())}, "unknown authority"},
		"another pin":   {Trust{Authorities: authority, Pin: strings.Repeat("A", 43) + "="}, "was expected"},
	} {
		config, err := c.trust.Config()
		require.NoError(t, err, name)
		if c.trust == (Trust{}) {
			require.Nil(t, config)
		} else {
			assert.Equal(t, uint16(tls.VersionTLS12), config.MinVersion, name)
		}
		resp, err := Client(5*time.Second, Transport(config)).Get(s.URL)
		if c.says != "" {
			require.ErrorContains(t, err, c.says, name)
			continue
		}
		require.NoError(t, err, name)
		resp.Body.Close()
	}
	for _, bad := range []Trust{{Authorities: "x"}, {Pin: "x"}, {Pin: "YWJj"}, {Certificate: authority}, {Key: "hunter22"}, {Certificate: "x", Key: "hunter22"}} {
		_, err := bad.Config()
		require.Error(t, err, bad)
		assert.NotContains(t, err.Error(), "hunter22")
	}
}
