// Package upgrade has two processes that speak HTTP/1.1 go on in a protocol of their own over the same connection (RFC 9110, section 7.8): what gets through to a server
// gets through so, by TLS, with what shows who one is.
package upgrade

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"andamio/internal/core/fault"
)

// beginWithin is how long a protocol may take to begin.
const beginWithin = 15 * time.Second

// Asks reports that a request asks for a protocol.
func Asks(r *http.Request, protocol string) bool {
	return r.Method == http.MethodGet && r.ProtoMajor == 1 && strings.EqualFold(r.Header.Get("Upgrade"), protocol) && strings.Contains(strings.ToLower(r.Header.Get("Connection")), "upgrade")
}

// conn is a connection of which something was read already.
type conn struct {
	net.Conn
	from *bufio.Reader
}

func (c *conn) Read(b []byte) (int, error) { return c.from.Read(b) }

// CloseWrite says that all is said: what the other side answers is read still.
func (c *conn) CloseWrite() error {
	if half, can := c.Conn.(interface{ CloseWrite() error }); can {
		return half.CloseWrite()
	}
	return c.Close()
}

// Take takes the connection of a request over, once it was said to whoever asks that it is theirs.
func Take(w http.ResponseWriter, protocol string) (net.Conn, error) {
	c, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return nil, err
	}
	if err := c.SetDeadline(time.Now().Add(beginWithin)); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	_, err = io.WriteString(c, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: "+protocol+"\r\n\r\n")
	if err = errors.Join(err, c.SetDeadline(time.Time{})); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return &conn{c, buffered.Reader}, nil
}

// mostRefusal bounds what is read of why a server does not take one.
const mostRefusal = 64 << 10

// Ask connects to a server and asks for a protocol at a path of it, with what shows who one is.
func Ask(ctx context.Context, protocol, server string, query url.Values, secret string, trust *tls.Config) (net.Conn, error) {
	u, err := url.Parse(server)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return nil, fault.Invalidf("%q is no address of a server: write https://NAME:PORT", server)
	}
	ctx, cancel := context.WithTimeout(ctx, beginWithin)
	defer cancel()
	c, err := connect(ctx, u, trust)
	if err != nil {
		return nil, fault.Unavailablef("the server %s is not reached: %w", u.Host, err)
	}
	u.RawQuery = query.Encode()
	r := &http.Request{Method: http.MethodGet, URL: u, Host: u.Host, ProtoMajor: 1, ProtoMinor: 1, Header: http.Header{
		"Authorization": {"Bearer " + secret}, "Connection": {"Upgrade"}, "Upgrade": {protocol}}}
	stop := context.AfterFunc(ctx, func() { c.Close() })
	from := bufio.NewReader(c)
	var answer *http.Response
	if err = r.Write(c); err == nil {
		answer, err = http.ReadResponse(from, r)
	}
	if err == nil && answer.StatusCode != http.StatusSwitchingProtocols {
		text, _ := io.ReadAll(io.LimitReader(answer.Body, mostRefusal))
		err = &Refused{answer.StatusCode, string(text)}
	}
	if !stop() || err != nil {
		c.Close()
		return nil, cmpErr(ctx.Err(), err)
	}
	return &conn{c, from}, nil
}

func cmpErr(first, second error) error {
	if first != nil {
		return fault.Unavailablef("the server did not answer within %s: %w", beginWithin, first)
	}
	return second
}

// Refused is a server's answer that it does not take one.
type Refused struct {
	Status int
	// Text is what it says, a problem detail as JSON.
	Text string
}

func (r *Refused) Error() string { return fmt.Sprintf("the server answers %d", r.Status) }

func connect(ctx context.Context, u *url.URL, trust *tls.Config) (net.Conn, error) {
	address := u.Host
	if u.Port() == "" {
		address = net.JoinHostPort(u.Hostname(), map[string]string{"https": "443", "http": "80"}[u.Scheme])
	}
	if u.Scheme == "http" {
		return new(net.Dialer).DialContext(ctx, "tcp", address)
	}
	t := &tls.Config{MinVersion: tls.VersionTLS12}
	if trust != nil {
		t = trust.Clone()
	}
	t.NextProtos = []string{"http/1.1"} // no other has an Upgrade
	if t.ServerName == "" {
		t.ServerName = u.Hostname()
	}
	return (&tls.Dialer{Config: t}).DialContext(ctx, "tcp", address)
}
