// Package bus publishes events on a NATS server, and hears those of others there.
//
// In go a server with who we are there, and events; out come what the stream there says that it keeps, or the messages of a subject. What is published has been kept by a stream
// (JetStream) when Publish returns, and is kept once however often it is published within the time for which the stream remembers (two minutes, unless it is set otherwise). What
// is heard is not: it is a hint, as a notice is, and goes to one of those that listen by the same name.
//
// The messages are those of the NATS protocol binding of CloudEvents: structured, with the whole event as the message, or binary, with the attributes as headers.
package bus

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"andamio/internal/notice"
)

// Server is where messages go, and who we are there: a user with a password, or whoever has a token.
type Server struct {
	// URL is nats://HOST:PORT or tls://HOST:PORT.
	URL string
	// User is "" for a token; Secret is the password or the token, "" for nobody in particular.
	User, Secret string
	// Authority vouches for the server (PEM certificates), where those that this machine trusts do not.
	Authority string
	// in is a server of this process, which is connected to without a port; nil for any other.
	in nats.InProcessConnProvider
}

// connecting bounds how long a connection may take to be there, patience what is asked of a server where a context does not.
const (
	connecting = 5 * time.Second
	patience   = 10 * time.Second
)

// waiting is how long a connection that broke off waits before it is tried again.
const waiting = 2 * time.Second

// ErrNoStream says that no stream of the server keeps what is published under a subject.
var ErrNoStream = errors.New("no stream there keeps what is published under the subject")

// ErrNotLet says that the server does not let us in, or not do what was asked.
var ErrNotLet = errors.New("the server does not let us")

func (s Server) options() []nats.Option {
	out := []nats.Option{nats.Name("andamio"), nats.Timeout(connecting), nats.ReconnectWait(waiting), nats.MaxReconnects(-1),
		nats.ReconnectBufSize(-1)} // what cannot be sent now is tried again by whoever sends it, and not sent behind their back
	switch {
	case s.User != "":
		out = append(out, nats.UserInfo(s.User, s.Secret))
	case s.Secret != "":
		out = append(out, nats.Token(s.Secret))
	}
	if pool := x509.NewCertPool(); s.Authority != "" && pool.AppendCertsFromPEM([]byte(s.Authority)) {
		out = append(out, nats.Secure(&tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool}))
	}
	if s.in != nil {
		out = append(out, nats.InProcessServer(s.in))
	}
	return out
}

func (s Server) connect(more ...nats.Option) (*nats.Conn, error) {
	conn, err := nats.Connect(s.URL, append(s.options(), more...)...)
	if err != nil {
		return nil, explained(err)
	}
	return conn, nil
}

// errAway says that a connection broke off, and is not there again yet.
var errAway = errors.New("the server is away")

// explained is an error of the server's in words that say what to do about it.
func explained(err error) error {
	switch {
	case errors.Is(err, nats.ErrAuthorization), errors.Is(err, nats.ErrAuthExpired), errors.Is(err, nats.ErrPermissionViolation):
		return fmt.Errorf("%w: %w", ErrNotLet, err)
	case errors.Is(err, jetstream.ErrNoStreamResponse), errors.Is(err, nats.ErrNoResponders):
		return ErrNoStream
	case errors.Is(err, nats.ErrReconnectBufExceeded), errors.Is(err, nats.ErrConnectionReconnecting), errors.Is(err, nats.ErrDisconnected):
		return errAway
	}
	return err
}

// Publisher publishes on servers, with one connection to each that is kept for what comes after.
type Publisher struct {
	mu    sync.Mutex
	conns map[Server]*nats.Conn
}

// conn is the connection to a server, made where there is none or it is given up.
func (p *Publisher) conn(s Server) (*nats.Conn, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if c := p.conns[s]; c != nil && !c.IsClosed() {
		return c, nil
	}
	c, err := s.connect()
	if err != nil {
		return nil, err
	}
	if p.conns == nil {
		p.conns = map[Server]*nats.Conn{}
	}
	p.conns[s] = c
	return c, nil
}

// Publish publishes an event under a subject, as a message whose headers are its attributes or as one that is the whole of it, and returns when a stream has kept it. The id tells
// a repeat from another message.
func (p *Publisher) Publish(ctx context.Context, s Server, subject, id string, e event.Event, binary bool) error {
	m, err := message(subject, e, binary)
	if err != nil {
		return err
	}
	conn, err := p.conn(s)
	if err != nil {
		return err
	}
	js, err := jetstream.New(conn)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	_, err = js.PublishMsg(ctx, m, jetstream.WithMsgID(id), jetstream.WithRetryAttempts(0))
	return explained(err)
}

// message is an event under a subject: with its attributes as headers, or the whole of it as the body (CloudEvents 1.0, NATS protocol binding, section 3).
func message(subject string, e event.Event, binary bool) (*nats.Msg, error) {
	if err := e.Validate(); err != nil {
		return nil, err
	}
	m := &nats.Msg{Subject: subject, Header: nats.Header{}}
	if binary {
		m.Data = e.Data()
		for name, value := range notice.Attributes(e) {
			m.Header.Set(name, value)
		}
		return m, nil
	}
	body, err := json.Marshal(e)
	m.Data = body
	m.Header.Set("content-type", event.ApplicationCloudEventsJSON)
	return m, err
}

// Close ends the connections.
func (p *Publisher) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.conns {
		c.Close()
	}
	p.conns = nil
}

// Message is one that was heard: the last part of its subject, its headers and its body.
type Message struct {
	Last   string
	Header http.Header
	Body   []byte
}

// Hearing is a subject that is listened to, until it is closed.
type Hearing struct {
	conn *nats.Conn
	gone chan struct{}
}

// Gone is closed when nothing is heard any more: it was closed, or the server lets us in no more.
func (h *Hearing) Gone() <-chan struct{} { return h.gone }

// dialer connects as long as a context lasts.
type dialer struct{ ctx context.Context }

func (d dialer) Dial(network, address string) (net.Conn, error) {
	return (&net.Dialer{Timeout: connecting}).DialContext(d.ctx, network, address)
}

// Hear has messages under a subject, one part below it, given to one of those that listen by the same name, one after the other; trouble is told what goes wrong meanwhile. Where the server is
// not there at first that is an error; where it goes it is connected to again, until the context ends or the hearing is closed.
func Hear(ctx context.Context, s Server, subject, name string, hear func(Message), trouble func(error)) (*Hearing, error) {
	gone := make(chan struct{})
	conn, err := s.connect(nats.SetCustomDialer(dialer{ctx}), nats.ClosedHandler(func(*nats.Conn) { close(gone) }), nats.DisconnectErrHandler(func(_ *nats.Conn, err error) { trouble(err) }),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) { trouble(explained(err)) }))
	if err != nil {
		return nil, err
	}
	_, err = conn.QueueSubscribe(subject+".*", name, func(m *nats.Msg) {
		header := http.Header{}
		for name, values := range m.Header {
			for _, v := range values {
				header.Add(name, v)
			}
		}
		hear(Message{m.Subject[len(subject)+1:], header, m.Data})
	})
	if err == nil {
		err = conn.FlushTimeout(patience) // by which the server has said whether we may
	}
	if err == nil {
		err = conn.LastError()
	}
	if err != nil {
		conn.Close()
		return nil, explained(err)
	}
	return &Hearing{conn, gone}, nil
}

// Close listens no more.
func (h *Hearing) Close() { h.conn.Close() }
