package tunnel

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
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

// Asks reports that a request asks for the protocol.
func Asks(r *http.Request) bool {
	return r.Method == http.MethodGet && r.ProtoMajor == 1 && strings.EqualFold(r.Header.Get("Upgrade"), Protocol) && strings.Contains(strings.ToLower(r.Header.Get("Connection")), "upgrade")
}

// Take takes the connection of a request over, once it was said to whoever asks that it is theirs.
func Take(w http.ResponseWriter) (net.Conn, error) {
	c, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return nil, err
	}
	if err := c.SetDeadline(time.Now().Add(beginWithin)); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	_, err = io.WriteString(c, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: "+Protocol+"\r\n\r\n")
	if err = errors.Join(err, c.SetDeadline(time.Time{})); err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return &conn{c, buffered.Reader}, nil
}

// mostRefusal bounds what is read of why a server does not take one.
const mostRefusal = 64 << 10

// Ask connects to a server and asks for the protocol at a path of it, with what shows who one is.
func Ask(ctx context.Context, server string, query url.Values, secret string, trust *tls.Config) (net.Conn, error) {
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
		"Authorization": {"Bearer " + secret}, "Connection": {"Upgrade"}, "Upgrade": {Protocol}}}
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

// refusal is why a process does not connect one through its worker, as it tells other processes.
type refusal struct {
	Detail string `json:"detail"`
	Kind   string `json:"kind,omitempty"`
}

// Tell writes why there is no connection, so that [Told] is the same error elsewhere.
func Tell(w http.ResponseWriter, status int, err error) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(refusal{err.Error(), kindOf(err)})
}

// Told is the error that [Tell] told.
func Told(text string) error {
	var r refusal
	if json.Unmarshal([]byte(text), &r) != nil || r.Detail == "" {
		return fault.Unavailablef("the process that the worker has connected to does not say why it cannot be gone through")
	}
	return failed(had{Failed: r.Detail, Kind: r.Kind})
}

// Join carries what either of two says to the other until both have said all, or the context ends.
func Join(ctx context.Context, a, b net.Conn) { join(ctx, a, b) }
