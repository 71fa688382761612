package occi

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
