package app

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
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

// checkTrust says what is wrong with how the site is trusted. Its address was checked.
func (c *Connection) checkTrust() error {
	if c.InClear() && !c.Insecure {
		return fmt.Errorf("%s is spoken to in clear: the credential could be read on the way. Use https, or say --insecure (on screen: in clear) if that is meant", c.URL)
	}
	if strings.HasPrefix(c.URL, "http:") && c.trust() != (web.Trust{}) {
		return errors.New("an authority, a pin or a client certificate is of no use over http: use https")
	}
	_, err := c.trust().Config()
	return err
}
