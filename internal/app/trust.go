package app

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"strings"

	"andamio/internal/web"
)

// trust is whom the connection trusts, and who it says that we are.
func (c Connection) trust() web.Trust {
	return web.Trust{Authorities: c.Authorities, Pin: c.Pin, Certificate: c.Certificate, Key: c.Key}
}

// nobody trusts nobody, and says why.
func nobody(why error) *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, VerifyConnection: func(tls.ConnectionState) error { return why }}
}

// InClear reports that what goes to the site can be read on the way.
func (c Connection) InClear() bool {
	u, err := url.Parse(c.URL)
	return err == nil && u.Scheme == "http" && !loopback(u.Hostname())
}

// loopback reports that a host is this machine, over no network.
func loopback(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback() || strings.EqualFold(host, "localhost")
}

// TrustWord is what people write to say whom a connection trusts.
type TrustWord struct{ Word, About string }

// TrustWords are all of them.
var TrustWords = []TrustWord{
	{"authority", "FILE of certificates of those who vouch for the site"},
	{"pin", "DIGEST of the site's public key (SHA-256, base64)"},
	{"certificate", "FILE of the certificate that says who we are"},
	{"key", "FILE of its private key"},
	{"in clear", "it may go over http, where it can be read on the way"},
}

// SetTrust sets whom the connection trusts as people write it, between commas, such as "authority ca.pem, pin DIGEST" or "in
// clear"; "" is whom this machine trusts. Files are read at once: what is in them is kept.
func (c *Connection) SetTrust(text string) error {
	c.Insecure, c.Authorities, c.Pin, c.Certificate, c.Key = false, "", "", "", ""
	for _, part := range strings.Split(text, ",") {
		word, rest, _ := strings.Cut(strings.TrimSpace(part), " ")
		rest = strings.TrimSpace(rest)
		var err error
		switch {
		case word == "":
		case word == "in" && rest == "clear":
			c.Insecure = true
		case word == "pin" && rest != "":
			c.Pin = rest
		case word == "authority" && rest != "":
			c.Authorities, err = readPEM(rest)
		case word == "certificate" && rest != "":
			c.Certificate, err = readPEM(rest)
		case word == "key" && rest != "":
			c.Key, err = readPEM(rest)
		default:
			return fmt.Errorf("%q says not whom to trust; write authority FILE, pin DIGEST, certificate FILE, key FILE or in clear, between commas", strings.TrimSpace(part))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// mostPEM bounds a file of certificates.
const mostPEM = 1 << 20

func readPEM(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() || info.Size() > mostPEM {
		return "", fmt.Errorf("%s is no file of certificates or keys: %w", name, errors.Join(err, fmt.Errorf("at most %d bytes are read", mostPEM)))
	}
	data, err := io.ReadAll(io.LimitReader(f, mostPEM))
	return string(data), err
}

// Trusts says in words whom the connection trusts.
func (c Connection) Trusts() string {
	var out []string
	if c.InClear() {
		out = append(out, "in clear: what is sent can be read on the way")
	}
	if c.Authorities != "" {
		out = append(out, "own authority")
	}
	if c.Pin != "" {
		out = append(out, "pinned to its key "+c.Pin[:min(8, len(c.Pin))]+"…")
	}
	if c.Certificate != "" {
		out = append(out, "says who we are by certificate")
	}
	return strings.Join(out, " · ")
}

// CheckTrust says what is wrong with an address and how its site is trusted.
func (c Connection) CheckTrust() error {
	var err error
	if c.URL, err = SiteURL(c.URL); err != nil {
		return err
	}
	return c.checkTrust()
}

// checkTrust says what is wrong with how the site is trusted. Its address was checked.
func (c *Connection) checkTrust() error {
	if c.InClear() && !c.Insecure {
		return fmt.Errorf("%s is spoken to in clear: the credential could be read on the way; use https, or say that it is meant (--insecure, on screen: in clear)", c.URL)
	}
	if strings.HasPrefix(c.URL, "http:") && c.trust() != (web.Trust{}) {
		return errors.New("an authority, a pin or a client certificate is of no use over http: use https")
	}
	_, err := c.trust().Config()
	return err
}
