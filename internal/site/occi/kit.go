package occi

import (
	_ "embed"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/driver"
	"andamio/internal/web"
)

// The fields of a connection.
const (
	fieldURL         = "url"
	fieldAuthority   = "authority"
	fieldPin         = "pin"
	fieldCertificate = "certificate"
	fieldKey         = "key"
	fieldInsecure    = "insecure"
	fieldToken       = "token"
)

// DefaultPort is the port of a site where none is given, and DefaultScheme how it is spoken to.
const (
	DefaultPort   = "8443"
	DefaultScheme = "https"
)

//go:embed mapping.yaml
var shippedMapping []byte

// Kit is the driver.
func Kit() *driver.Driver {
	return &driver.Driver{
		Name: "occi", About: "the Open Cloud Computing Interface over HTTP",
		Address: fieldURL, Credential: fieldToken,
		Questions: []driver.Question{
			{Word: "address", Text: "where is it spoken to?",
				About:  "HOST, HOST:PORT or a URL. Without a scheme it is https, without a port " + DefaultPort + ".",
				Fields: []driver.Field{{Name: fieldURL, About: "address of the site", Needed: true, Check: siteURL}}},
			{Word: "trust", Text: "how is it known to be the right one?", Unsaid: "as this machine",
				About: "Empty trusts whom this machine trusts. Between commas: authority FILE, pin DIGEST, certificate FILE, key FILE; " +
					"or in clear, for http over a network: then everything can be read on the way, and the site is marked so.",
				Fields: []driver.Field{
					{Name: fieldAuthority, Word: "authority", File: true, About: "file of certificates of those who vouch for the site (PEM), instead of those whom this machine trusts"},
					{Name: fieldPin, Word: "pin", Takes: "DIGEST", About: "digest of the site's public key, which must be that one (SHA-256 in base64, RFC 7469)"},
					{Name: fieldCertificate, Word: "certificate", File: true, About: "file of the certificate that says who we are (PEM)"},
					{Name: fieldKey, Word: "key", File: true, Secret: true, About: "file of its private key (PEM)"},
					{Name: fieldInsecure, Word: "in clear", Switch: true, About: "take an address of http, over which everything, the credential too, can be read; the site is marked for ever"},
				}},
			{Word: "credential", Text: "with which credential?",
				About:  "It is not shown, and is kept encrypted. It is tried as soon as you press enter; nothing is changed at the site.",
				Fields: []driver.Field{{Name: fieldToken, Needed: true, Secret: true, About: "credential of the site"}}},
		},
		Check: checkTrust, Exposed: exposed, Guards: guards, Open: open,
		Kinds: []kinds.Kind{kinds.Network, kinds.Volume, kinds.Instance, kinds.Interface, kinds.Attachment, kinds.Object, kinds.Snapshot}, Mapping: shippedMapping,
	}
}

// open makes a driver of one site.
func open(t driver.Terms) (site.Site, error) {
	d := New(t.Site, t.Values[fieldURL], t.Values[fieldToken])
	if t.Patience > 0 {
		d.Patience(t.Patience)
	}
	trust, err := trustOf(t.Values).Config()
	if err != nil {
		return nil, err
	}
	d.Over(trust, t.Dial)
	d.Renew(t.Renew)
	return d, nil
}

// trustOf is whom a connection trusts, and who it says that we are.
func trustOf(v driver.Values) web.Trust {
	return web.Trust{Authorities: v[fieldAuthority], Pin: v[fieldPin], Certificate: v[fieldCertificate], Key: v[fieldKey]}
}

// siteURL completes an address as people write it: HOST, HOST:PORT or a URL. The scheme is https and the port 8443 where
// none is given.
func siteURL(text string) (string, error) {
	text = strings.TrimSpace(text)
	if !strings.Contains(text, "://") {
		text = DefaultScheme + "://" + text
	}
	u, err := url.Parse(text)
	if err != nil || u.Hostname() == "" {
		return "", fmt.Errorf("%q is no address; write HOST, HOST:PORT or https://HOST:PORT", text)
	}
	if u.Scheme != "https" && u.Scheme != "http" {
		return "", fmt.Errorf("a site is spoken to by https or http, not %s", u.Scheme)
	}
	if u.User != nil {
		return "", errors.New("no credential belongs into the address: it is asked for by itself")
	}
	if u.Port() == "" {
		u.Host = net.JoinHostPort(u.Hostname(), DefaultPort)
	}
	u.RawQuery, u.Fragment, u.Path = "", "", strings.TrimRight(u.Path, "/")
	return u.String(), nil
}

// inClear reports that what goes to the site can be read on the way.
func inClear(v driver.Values) bool {
	u, err := url.Parse(v[fieldURL])
	return err == nil && u.Scheme == "http" && !web.Loopback(u.Hostname())
}

// checkTrust says what is wrong with how a site is trusted.
func checkTrust(v driver.Values) error {
	if inClear(v) && v[fieldInsecure] == "" {
		return fmt.Errorf("%s is spoken to in clear: the credential could be read on the way; use https, or say that it is meant (--insecure, on screen: in clear)", v[fieldURL])
	}
	if strings.HasPrefix(v[fieldURL], "http:") && trustOf(v) != (web.Trust{}) {
		return errors.New("an authority, a pin or a client certificate is of no use over http: use https")
	}
	_, err := trustOf(v).Config()
	return err
}

func exposed(v driver.Values) string {
	if inClear(v) {
		return "in clear: what is sent can be read on the way"
	}
	return ""
}

// guards says how the connection is secured beyond the usual.
func guards(v driver.Values) []string {
	var out []string
	if v[fieldAuthority] != "" {
		out = append(out, "own authority")
	}
	if pin := v[fieldPin]; pin != "" {
		out = append(out, "pinned to its key "+pin[:min(8, len(pin))]+"…")
	}
	if v[fieldCertificate] != "" {
		out = append(out, "says who we are by certificate")
	}
	return out
}
