package occi

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/site/driver"
)

func TestAddressesAreCompleted(t *testing.T) {
	for text, want := range map[string]string{"vega.ribera.test": "https://vega.ribera.test:8443", "vega:99": "https://vega:99",
		"http://vega": "http://vega:8443", " https://vega:1/api/ ": "https://vega:1/api", "[::1]": "https://[::1]:8443"} {
		got, err := siteURL(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"", "https://", "://", "a b"} {
		_, err := siteURL(text)
		assert.Error(t, err, text)
	}
}

// TestWhatGoesInClearIsKnown holds which addresses are exposed, and what a connection says of itself.
func TestWhatGoesInClearIsKnown(t *testing.T) {
	k := Kit()
	for url, clear := range map[string]bool{"https://vega:1": false, "http://vega:1": true, "http://127.0.0.1:1": false, "http://[::1]:1": false, "http://localhost:1": false,
		"http://10.0.0.1": true, "%": false, "": false} {
		assert.Equal(t, clear, k.Exposed(driver.Values{"url": url}) != "", url)
	}
	assert.Empty(t, k.Says(driver.Values{"url": "https://vega:1"}))
	assert.Equal(t, "in clear: what is sent can be read on the way · own authority · pinned to its key abc… · says who we are by certificate",
		k.Says(driver.Values{"url": "http://vega:1", "authority": "x", "pin": "abc", "certificate": "y"}))
	_, err := k.Open(driver.Terms{Site: "vega", Values: driver.Values{"url": "https://vega:1", "pin": "abc"}})
	assert.ErrorContains(t, err, "a pin is the SHA-256")
	s, err := k.Open(driver.Terms{Site: "vega", Values: driver.Values{"url": "https://vega:1"}, Patience: time.Minute})
	require.NoError(t, err)
	assert.Equal(t, "vega", s.Name())
	assert.Equal(t, time.Minute, s.(*Driver).client.Timeout)
}
