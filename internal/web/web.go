// Package web makes the clients with which others are asked over HTTP: they follow no redirect, since what goes along,
// credentials and secrets, is meant for the one who was asked and nobody else, and they trust whom they are told to.
package web

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Redirected is the answer of a server that sends us elsewhere.
type Redirected struct{ To *url.URL }

// Error names the target, without anything that may be secret in it.
func (r *Redirected) Error() string {
	to := *r.To
	to.User, to.RawQuery, to.Fragment = nil, "", ""
	return fmt.Sprintf("it sends us to %s, where nothing is sent: connect that address if it is meant", to.String())
}

// refuse follows no redirect.
func refuse(req *http.Request, _ []*http.Request) error { return &Redirected{req.URL} }

// Client is a client that waits so long for one answer, over connections of a transport; nil is a usual one.
func Client(patience time.Duration, over http.RoundTripper) *http.Client {
	if over == nil {
		over = Transport(nil)
	}
	return &http.Client{Timeout: patience, Transport: over, CheckRedirect: refuse}
}

// Transport keeps connections to those that a configuration trusts; nil trusts whom this machine trusts.
func Transport(trust *tls.Config) *http.Transport {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.MaxIdleConnsPerHost = 32
	t.TLSClientConfig = trust
	return t
}

// Trust is whom a client trusts, and who it is.
type Trust struct {
	// Authorities are certificates, as PEM, of those who vouch for the server; "" is whom this machine trusts.
	Authorities string
	// Pin is the digest of the server's public key: see [PinOf]; "" is any.
	Pin string
	// Certificate and Key, as PEM, say who we are; "" says nothing.
	Certificate, Key string
}

// Config is the trust as a configuration of TLS; nil if it says nothing.
func (t Trust) Config() (*tls.Config, error) {
	if t == (Trust{}) {
		return nil, nil
	}
	c := &tls.Config{MinVersion: tls.VersionTLS12}
	if t.Authorities != "" {
		c.RootCAs = x509.NewCertPool()
		if !c.RootCAs.AppendCertsFromPEM([]byte(t.Authorities)) {
			return nil, errors.New("the authority's file holds no certificate (PEM, RFC 7468)")
		}
	}
	if t.Certificate != "" || t.Key != "" {
		pair, err := tls.X509KeyPair([]byte(t.Certificate), []byte(t.Key))
		if err != nil {
			return nil, errors.New("the client certificate and its key do not go together, or are no PEM (RFC 7468)") // the error may quote them
		}
		c.Certificates = []tls.Certificate{pair}
	}
	if t.Pin != "" {
		if raw, err := base64.StdEncoding.DecodeString(t.Pin); err != nil || len(raw) != sha256.Size {
			return nil, errors.New("a pin is the SHA-256 of the server's public key in base64 (RFC 7469, section 2.4), 44 characters long")
		}
		c.VerifyConnection = func(s tls.ConnectionState) error {
			if got := PinOf(s.PeerCertificates[0]); got != t.Pin {
				return fmt.Errorf("its public key has the pin %s, and %s was expected: ask whose it is before you take it", got, t.Pin)
			}
			return nil
		}
	}
	return c, nil
}

// Pinned is a configuration that trusts whoever has the public key of a pin ([PinOf]), whoever vouches for it and whatever it is called: the pin was told by a way that is trusted.
func Pinned(pin string) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true, VerifyConnection: func(s tls.ConnectionState) error {
		if len(s.PeerCertificates) == 0 || pin == "" || PinOf(s.PeerCertificates[0]) != pin {
			return errors.New("its public key is not the one that was told")
		}
		return nil
	}}
}

// Loopback reports that a host is this machine, over no network.
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback() || strings.EqualFold(host, "localhost")
}

// PinOf is the SHA-256 digest, in base64, of a certificate's public key (RFC 7469, section 2.4).
func PinOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.RawSubjectPublicKeyInfo)
	return base64.StdEncoding.EncodeToString(sum[:])
}
