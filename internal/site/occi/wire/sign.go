package wire

import (
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// Headers of HTTP Message Signatures (RFC 9421, section 4).
const (
	headerInput     = "Signature-Input"
	headerSignature = "Signature"
)

// signatureLife is how long a signature is taken after it was made, and how far clocks may be apart.
const signatureLife = 5 * time.Minute

// label names the one signature that requests between sites bear.
const label = "pair"

// Sign signs a request from one site to another (RFC 9421, ed25519): its method, authority, path, query and range.
func Sign(r *http.Request, site string, key ed25519.PrivateKey, now time.Time) {
	params := fmt.Sprintf(`("@method" "@authority" "@path" "@query" "range");created=%d;keyid="%s";alg="ed25519"`, now.Unix(), site)
	sum := ed25519.Sign(key, []byte(signatureBase(r, params)))
	r.Header.Set(headerInput, label+"="+params)
	r.Header.Set(headerSignature, label+"=:"+base64.StdEncoding.EncodeToString(sum)+":")
}

// signatureBase is what is signed (RFC 9421, section 2.5).
func signatureBase(r *http.Request, params string) string {
	authority := r.Host
	if authority == "" {
		authority = r.URL.Host
	}
	var b strings.Builder
	for _, c := range [][2]string{{"@method", r.Method}, {"@authority", strings.ToLower(authority)}, {"@path", r.URL.EscapedPath()},
		{"@query", "?" + r.URL.RawQuery}, {"range", r.Header.Get("Range")}} {
		fmt.Fprintf(&b, "%q: %s\n", c[0], c[1])
	}
	fmt.Fprintf(&b, "%q: %s", "@signature-params", params)
	return b.String()
}

// Signed reports that a request bears a signature.
func Signed(r *http.Request) bool { return r.Header.Get(headerInput) != "" }

// Verify says which site signed a request; key returns a site's public key, nil if it is not known.
func Verify(r *http.Request, key func(site string) ed25519.PublicKey, now time.Time) (string, error) {
	params, ok := strings.CutPrefix(r.Header.Get(headerInput), label+"=")
	if !ok || !strings.HasPrefix(params, `("@method" "@authority" "@path" "@query" "range");`) {
		return "", errors.New("the request is not signed as it must be")
	}
	var site string
	var created int64
	for _, p := range strings.Split(params, ";")[1:] {
		name, v, _ := strings.Cut(p, "=")
		switch name {
		case "created":
			created, _ = strconv.ParseInt(v, 10, 64)
		case "keyid":
			site = strings.Trim(v, `"`)
		case "alg":
			if v != `"ed25519"` {
				return "", errors.New("the signature's algorithm is not ed25519")
			}
		}
	}
	if age := now.Sub(time.Unix(created, 0)); age > signatureLife || age < -signatureLife {
		return "", fmt.Errorf("the signature is %s old: the clocks are apart, or it is used again", age.Round(time.Second))
	}
	public := key(site)
	if public == nil {
		return "", fmt.Errorf("the site %q is not paired with this one", site)
	}
	text := strings.TrimSuffix(strings.TrimPrefix(r.Header.Get(headerSignature), label+"=:"), ":")
	sum, err := base64.StdEncoding.DecodeString(text)
	if err != nil || !ed25519.Verify(public, []byte(signatureBase(r, params)), sum) {
		return "", errors.New("the signature does not fit the request")
	}
	return site, nil
}
