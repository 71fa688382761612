package wire

import (
	"crypto/ed25519"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func signed(t *testing.T, key ed25519.PrivateKey, at time.Time) *http.Request {
	t.Helper()
	r, err := http.NewRequest(http.MethodGet, "http://127.8.0.2:8443/disk/vega-storage-3?view=changes", nil)
	require.NoError(t, err)
	r.Header.Set("Range", "bytes=0-4095")
	Sign(r, "presa", key, at)
	return r
}

func TestOnlyWhatWasSignedIsTaken(t *testing.T) {
	public, private, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	other, _, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	now := time.Unix(1_800_000_000, 0)
	known := func(site string) ed25519.PublicKey {
		return map[string]ed25519.PublicKey{"presa": public}[site]
	}
	site, err := Verify(signed(t, private, now), known, now.Add(time.Minute))
	require.NoError(t, err)
	assert.Equal(t, "presa", site)

	for name, change := range map[string]func(*http.Request){
		"another range":    func(r *http.Request) { r.Header.Set("Range", "bytes=0-8191") },
		"another disk":     func(r *http.Request) { r.URL.Path = "/disk/vega-storage-4" },
		"another question": func(r *http.Request) { r.URL.RawQuery = "view=hashes" },
		"another method":   func(r *http.Request) { r.Method = http.MethodPut },
		"another site":     func(r *http.Request) { r.Host = "127.8.0.3:8443" },
		"no signature":     func(r *http.Request) { r.Header.Del("Signature") },
		"nonsense":         func(r *http.Request) { r.Header.Set("Signature", "pair=:AAAA:") },
		"fewer parts": func(r *http.Request) {
			r.Header.Set("Signature-Input", `pair=("@method");created=1800000000;keyid="presa"`)
		},
		"another algorithm": func(r *http.Request) {
			r.Header.Set("Signature-Input", `pair=("@method" "@authority" "@path" "@query" "range");created=1800000000;keyid="presa";alg="hmac-sha256"`)
		},
	} {
		t.Run(name, func(t *testing.T) {
			r := signed(t, private, now)
			change(r)
			_, err := Verify(r, known, now)
			require.Error(t, err)
		})
	}
	_, err = Verify(signed(t, private, now), known, now.Add(time.Hour))
	require.ErrorContains(t, err, "old")
	_, err = Verify(signed(t, private, now.Add(time.Hour)), known, now)
	require.ErrorContains(t, err, "clocks")
	_, err = Verify(signed(t, private, now), func(string) ed25519.PublicKey { return other }, now)
	require.ErrorContains(t, err, "does not fit")
	_, err = Verify(signed(t, private, now), func(string) ed25519.PublicKey { return nil }, now)
	require.ErrorContains(t, err, "not paired")
}

func TestDigestsTellBytesApart(t *testing.T) {
	a := []byte("level 2.10 m at the dam")
	b := append([]byte(nil), a...)
	assert.Equal(t, RangeDigest(a), RangeDigest(b))
	b[7] ^= 1
	assert.NotEqual(t, RangeDigest(a), RangeDigest(b))
}
