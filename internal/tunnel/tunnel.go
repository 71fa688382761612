// Package tunnel has a worker in a closed network connect out, and others connect through it to what it can reach: one connection of TCP or TLS carries many streams
// (the yamux protocol), each of which begins with a line that says what is wanted and one that says whether it is had.
//
// What goes through is not looked at: whoever speaks TLS or SSH at its ends speaks it through the worker, which has no key to it.
package tunnel

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"sync"
	"syscall"
	"time"

	"github.com/libp2p/go-yamux/v5"
)

// Protocol is what is asked for by the Upgrade of a request (RFC 9110, section 7.8).
const Protocol = "andamio-tunnel/1"

// How long a stream may take to begin, and how often it is seen whether the other side is there.
const (
	beginWithin = 15 * time.Second
	aliveEvery  = 5 * time.Second
)

// mostLine bounds the line that a stream begins with.
const mostLine = 64 << 10

func config() *yamux.Config {
	c := yamux.DefaultConfig()
	c.KeepAliveInterval, c.ConnectionWriteTimeout, c.LogOutput = aliveEvery, 2*aliveEvery, io.Discard
	return c
}

// wish is what a stream is for: to go on to an address, or to measure how far addresses are.
type wish struct {
	Address string            `json:"address,omitempty"`
	Measure map[string]string `json:"measure,omitempty"`
	// Within is how many milliseconds connecting may take.
	Within int64 `json:"within,omitempty"`
}

// had says what came of a wish.
type had struct {
	// Failed is why there is no connection, in words, and Kind in one.
	Failed string              `json:"failed,omitempty"`
	Kind   string              `json:"kind,omitempty"`
	Found  map[string]Distance `json:"found,omitempty"`
}

// Distance is how far an address is from a worker.
type Distance struct {
	// Took is how long connecting took; Failed is why it could not.
	Took   time.Duration `json:"took"`
	Failed string        `json:"failed,omitempty"`
}

// The kinds of why there is no connection.
const (
	refused     = "refused"
	silent      = "silent"
	unreachable = "unreachable"
	forbidden   = "forbidden"
)

// Errors of what a worker cannot reach are those of the operating system, as if it had been tried from here.
var kinds = map[string]error{refused: syscall.ECONNREFUSED, silent: os.ErrDeadlineExceeded, unreachable: syscall.EHOSTUNREACH, forbidden: syscall.EACCES}

// ErrForbidden says that a worker is not to connect to an address.
var ErrForbidden = errors.New("the worker is not to connect there")

func kindOf(err error) string {
	var timeout net.Error
	switch {
	case errors.Is(err, ErrForbidden):
		return forbidden
	case errors.Is(err, syscall.ECONNREFUSED):
		return refused
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return unreachable
	case errors.As(err, &timeout) && timeout.Timeout(), errors.Is(err, context.DeadlineExceeded):
		return silent
	}
	return ""
}

// Session is a worker that has connected, for those who connect through it.
type Session struct{ mux *yamux.Session }

// Accept makes a session of a connection on which a worker came.
func Accept(conn net.Conn) (*Session, error) {
	mux, err := yamux.Client(conn, config(), nil)
	return &Session{mux}, err
}

// Gone is closed when the worker is not there any more.
func (s *Session) Gone() <-chan struct{} { return s.mux.CloseChan() }

// Close ends it, and what goes through.
func (s *Session) Close() error { return s.mux.Close() }

// open begins a stream.
func (s *Session) open(ctx context.Context, w wish) (net.Conn, *bufio.Reader, had, error) {
	var h had
	within := beginWithin
	if until, is := ctx.Deadline(); is {
		within = min(within, max(time.Until(until), time.Millisecond))
	}
	w.Within = within.Milliseconds()
	opening, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	stream, err := s.mux.OpenStream(opening)
	if err != nil {
		return nil, nil, h, fmt.Errorf("the worker is gone: %w", err)
	}
	stop := context.AfterFunc(ctx, func() { stream.Close() })
	_ = stream.SetDeadline(time.Now().Add(within + aliveEvery))
	line, err := json.Marshal(w)
	if err == nil {
		_, err = stream.Write(append(line, '\n'))
	}
	from := bufio.NewReader(stream)
	if err == nil {
		line, err = readLine(from)
	}
	if err == nil {
		err = json.Unmarshal(line, &h)
	}
	if !stop() || err != nil {
		stream.Close()
		return nil, nil, h, errors.Join(ctx.Err(), err)
	}
	return stream, from, h, stream.SetDeadline(time.Time{})
}

func readLine(from *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := from.ReadSlice('\n')
		if line = append(line, part...); len(line) > mostLine {
			return nil, errors.New("what a stream begins with has no end")
		}
		if err == nil || !errors.Is(err, bufio.ErrBufferFull) {
			return line, err
		}
	}
}

// Dial connects to an address as the worker reaches it.
func (s *Session) Dial(ctx context.Context, address string) (net.Conn, error) {
	stream, from, h, err := s.open(ctx, wish{Address: address})
	if err != nil {
		return nil, err
	}
	if h.Failed != "" {
		stream.Close()
		return nil, failed(h)
	}
	return &conn{stream, from}, nil
}

// failed is why a worker has no connection.
func failed(h had) error {
	if of := kinds[h.Kind]; of != nil {
		return &net.OpError{Op: "dial", Net: "tcp", Err: fmt.Errorf("%s: %w", h.Failed, of)}
	}
	return errors.New(h.Failed)
}

// conn is a stream of which something was read already.
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

// Measure asks the worker how far addresses are, by names.
func (s *Session) Measure(ctx context.Context, addresses map[string]string) (map[string]Distance, error) {
	stream, _, h, err := s.open(ctx, wish{Measure: addresses})
	if err != nil {
		return nil, err
	}
	return h.Found, stream.Close()
}

// Allow says which addresses a worker connects to: those in networks, or any where none are named. Names are looked up by the worker.
type Allow []netip.Prefix

// check looks an address up, and refuses what is not allowed.
func (a Allow) check(ctx context.Context, address string) ([]string, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	if len(a) == 0 {
		return []string{address}, nil
	}
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, ip := range found {
		for _, p := range a {
			if p.Contains(ip.Unmap()) {
				out = append(out, net.JoinHostPort(ip.Unmap().String(), port))
				break
			}
		}
	}
	if out == nil {
		return nil, fmt.Errorf("%s: %w", address, ErrForbidden)
	}
	return out, nil
}

func (a Allow) dial(ctx context.Context, address string) (net.Conn, error) {
	all, err := a.check(ctx, address)
	if err != nil {
		return nil, err
	}
	var d net.Dialer
	for _, at := range all {
		var c net.Conn
		if c, err = d.DialContext(ctx, "tcp", at); err == nil {
			return c, nil
		}
	}
	return nil, err
}

// Work serves those who connect through this worker, over the connection on which it came, until that or the context ends.
func Work(ctx context.Context, over net.Conn, allow Allow) error {
	mux, err := yamux.Server(over, config(), nil)
	if err != nil {
		return err
	}
	defer mux.Close()
	stop := context.AfterFunc(ctx, func() { mux.Close() })
	defer stop()
	var group sync.WaitGroup
	defer group.Wait()
	for {
		stream, err := mux.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		group.Go(func() {
			defer stream.Close()
			serve(ctx, stream, allow)
		})
	}
}

// serve does what a stream is for.
func serve(ctx context.Context, stream net.Conn, allow Allow) {
	_ = stream.SetReadDeadline(time.Now().Add(beginWithin))
	from := bufio.NewReader(stream)
	line, err := readLine(from)
	var w wish
	if err != nil || json.Unmarshal(line, &w) != nil {
		return
	}
	_ = stream.SetReadDeadline(time.Time{})
	asking, cancel := context.WithTimeout(ctx, min(beginWithin, max(time.Duration(w.Within)*time.Millisecond, time.Millisecond)))
	defer cancel()
	if w.Measure != nil {
		_ = answer(stream, had{Found: measure(asking, allow, w.Measure)})
		return
	}
	to, err := allow.dial(asking, w.Address)
	cancel()
	if err != nil {
		_ = answer(stream, had{Failed: err.Error(), Kind: kindOf(err)})
		return
	}
	defer to.Close()
	if answer(stream, had{}) == nil {
		join(ctx, &conn{stream, from}, to)
	}
}

func answer(to io.Writer, h had) error {
	line, err := json.Marshal(h)
	if err == nil {
		_, err = to.Write(append(line, '\n'))
	}
	return err
}

// measureAtOnce is how many addresses are measured side by side.
const measureAtOnce = 16

func measure(ctx context.Context, allow Allow, addresses map[string]string) map[string]Distance {
	out := map[string]Distance{}
	var mu sync.Mutex
	var group sync.WaitGroup
	turns := make(chan struct{}, measureAtOnce)
	for name, address := range addresses {
		group.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			began := time.Now()
			c, err := allow.dial(ctx, address)
			d := Distance{Took: time.Since(began)}
			if err != nil {
				d.Failed = err.Error()
			} else {
				c.Close()
			}
			mu.Lock()
			out[name] = d
			mu.Unlock()
		})
	}
	group.Wait()
	return out
}

// join carries what either side says to the other until both have said all.
func join(ctx context.Context, a, b net.Conn) {
	stop := context.AfterFunc(ctx, func() { a.Close(); b.Close() })
	defer stop()
	var group sync.WaitGroup
	carry := func(to, from net.Conn) {
		_, err := io.Copy(to, from)
		if half, can := to.(interface{ CloseWrite() error }); can && err == nil {
			_ = half.CloseWrite()
			return
		}
		to.Close()
		if err != nil {
			from.Close()
		}
	}
	group.Go(func() { carry(a, b) })
	group.Go(func() { carry(b, a) })
	group.Wait()
}
