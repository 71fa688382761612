package libvirt

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"andamio/internal/reach"
	"andamio/internal/remote"
	"andamio/internal/web"
)

// Where daemons listen by default.
const (
	usualSocket = "/var/run/libvirt/libvirt-sock"
	portTLS     = "16514"
	portTCP     = "16509"
	portSSH     = "22"
)

// The ways to a daemon.
const (
	byUnix = "unix"
	byTLS  = "tls"
	bySSH  = "ssh"
	byTCP  = "tcp"
)

// place is one host as people write it: NAME=WAY://USER@HOST:PORT/SOCKET, of which the way and what it needs must be there.
type place struct {
	name, way, user, address, socket string
}

var zoneName = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9._-]{0,62})$`)

// places reads the hosts of a site.
func places(text string) ([]place, error) {
	var out []place
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		p, err := placeOf(part)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(out, func(o place) bool { return o.name == p.name }) {
			return nil, fmt.Errorf("two hosts are called %s: name them apart, as NAME=%s", p.name, p.String())
		}
		out = append(out, p)
	}
	if len(out) == 0 {
		return nil, errors.New("no host is named; write unix, ssh://USER@HOST or tls://HOST, several between commas")
	}
	return out, nil
}

func placeOf(text string) (place, error) {
	var p place
	name, rest, named := strings.Cut(text, "=")
	if !named {
		name, rest = "", text
	}
	way, where, _ := strings.Cut(rest, ":")
	where = strings.TrimPrefix(where, "//")
	p.name, p.way = name, way
	var err error
	switch way {
	case byUnix:
		p.socket = cmp.Or(where, usualSocket)
		if !strings.HasPrefix(p.socket, "/") {
			err = fmt.Errorf("%q: a socket is written with its whole path, as unix:/PATH", text)
		}
		p.name = cmp.Or(p.name, "local")
	case bySSH, byTLS, byTCP:
		err = p.read(way+"://"+where, map[string]string{bySSH: portSSH, byTLS: portTLS, byTCP: portTCP}[way])
	default:
		err = fmt.Errorf("%q is no host; write unix:/PATH, ssh://USER@HOST:PORT/PATH or tls://HOST:PORT", text)
	}
	if err == nil && !zoneName.MatchString(p.name) {
		err = fmt.Errorf("%q is no name of a host: letters, digits, dots and hyphens, at most 63", p.name)
	}
	return p, err
}

// read reads a way over a network.
func (p *place) read(text, port string) error {
	u, err := url.Parse(text)
	if err != nil || u.Hostname() == "" {
		return fmt.Errorf("%q names no host; write %s://HOST:PORT", text, p.way)
	}
	if _, secret := u.User.Password(); secret {
		return errors.New("no password belongs into the address of a host: it is reached with a key")
	}
	if p.way != bySSH && (u.User != nil || strings.Trim(u.Path, "/") != "") {
		return fmt.Errorf("%q: nothing but a host and a port can be said of %s", text, p.way)
	}
	p.address = net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), port))
	p.name = cmp.Or(p.name, u.Hostname())
	if p.way == bySSH {
		p.user, p.socket = cmp.Or(u.User.Username(), "root"), usualSocket
		if strings.Trim(u.Path, "/") != "" {
			p.socket = u.Path
		}
	}
	return nil
}

// String is the host as it is written.
func (p place) String() string {
	switch p.way {
	case byUnix:
		return p.name + "=unix:" + p.socket
	case bySSH:
		return fmt.Sprintf("%s=ssh://%s@%s%s", p.name, p.user, p.address, p.socket)
	}
	return fmt.Sprintf("%s=%s://%s", p.name, p.way, p.address)
}

// hostsAs is the text of hosts with all said that was left out.
func hostsAs(text string) (string, error) {
	all, err := places(text)
	if err != nil {
		return "", err
	}
	words := make([]string, len(all))
	for i, p := range all {
		words[i] = p.String()
	}
	return strings.Join(words, ","), nil
}

// inClear reports that what goes to the host can be read on the way.
func (p place) inClear() bool {
	h, _, _ := net.SplitHostPort(p.address)
	return p.way == byTCP && !web.Loopback(h)
}

// door is the way to a daemon: dial makes a connection on which its protocol is spoken.
type door struct {
	dial func(ctx context.Context) (net.Conn, error)
}

// keys are what opens doors.
type keys struct {
	tls     *tls.Config
	signer  ssh.Signer
	hostKey ssh.PublicKey
}

// reached is how long it may take until a host answers at all.
const reached = 10 * time.Second

func (p place) door(k keys, dial reach.Dialer) door {
	from := func(ctx context.Context) context.Context { return reach.From(ctx, dial) }
	switch p.way {
	case byUnix: // which is on this machine
		return door{func(ctx context.Context) (net.Conn, error) { return new(net.Dialer).DialContext(ctx, "unix", p.socket) }}
	case byTCP:
		return door{func(ctx context.Context) (net.Conn, error) { return reach.Dial(from(ctx), "tcp", p.address) }}
	case byTLS:
		return door{func(ctx context.Context) (net.Conn, error) { return p.overTLS(from(ctx), k.tls) }}
	}
	return door{func(ctx context.Context) (net.Conn, error) { return p.overSSH(from(ctx), k) }}
}

// overTLS speaks as libvirt does over TLS: after the handshake the daemon says with one byte whether it takes our certificate.
func (p place) overTLS(ctx context.Context, config *tls.Config) (net.Conn, error) {
	raw, err := reach.Dial(ctx, "tcp", p.address)
	if err != nil {
		return nil, err
	}
	conn, err := shaken(ctx, raw, p.address, config)
	if err != nil {
		return nil, errors.Join(err, raw.Close())
	}
	until, _ := ctx.Deadline()
	_ = conn.SetReadDeadline(until)
	taken := make([]byte, 1)
	if _, err = conn.Read(taken); err == nil && taken[0] != 1 {
		err = errors.New("the host does not take the certificate that says who we are")
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	return conn, conn.SetReadDeadline(time.Time{})
}

// shaken is a connection over which TLS is spoken, by the name that was connected to.
func shaken(ctx context.Context, raw net.Conn, address string, config *tls.Config) (net.Conn, error) {
	c := &tls.Config{MinVersion: tls.VersionTLS12}
	if config != nil {
		c = config.Clone()
	}
	if c.ServerName == "" {
		c.ServerName, _, _ = net.SplitHostPort(address)
	}
	conn := tls.Client(raw, c)
	return conn, conn.HandshakeContext(ctx)
}

// overSSH has the host's SSH server lead to the daemon's socket (direct-streamlocal@openssh.com).
func (p place) overSSH(ctx context.Context, k keys) (net.Conn, error) {
	if k.signer == nil {
		return nil, errors.New("no key is there with which to log in: say --key FILE")
	}
	if k.hostKey == nil {
		return nil, errors.New("the host's key is not known: say --host-key with the line that ssh-keyscan prints of it, after you have seen that it is right")
	}
	raw, err := reach.Dial(ctx, "tcp", p.address)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { raw.Close() })
	conn, chans, reqs, err := ssh.NewClientConn(raw, p.address, remote.KnownBy(k.hostKey, ssh.ClientConfig{User: p.user, Auth: []ssh.AuthMethod{ssh.PublicKeys(k.signer)}, Timeout: reached}))
	if err != nil {
		stop()
		raw.Close()
		return nil, err
	}
	client := ssh.NewClient(conn, chans, reqs)
	through, err := client.Dial("unix", p.socket)
	if !stop() && err == nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		client.Close()
		return nil, fmt.Errorf("the way through SSH to %s: %w", p.socket, err)
	}
	return &tunnelled{through, client}, nil
}

// tunnelled ends its tunnel when it ends.
type tunnelled struct {
	net.Conn
	client *ssh.Client
}

func (t *tunnelled) Close() error {
	t.Conn.Close()
	return t.client.Close()
}
