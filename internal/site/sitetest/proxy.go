package sitetest

import (
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// fault is a way in which the way to a site fails. None knows the protocol: what is cut is counted in bytes.
type fault int

const (
	none fault = iota
	// refused ends every connection at once; mute takes them and does nothing; deaf brings the question and never the answer.
	refused
	mute
	deaf
	// cutQuestion breaks off after some bytes of the question, cutAnswer when the answer begins, cutMiddle after some bytes of it.
	cutQuestion
	cutAnswer
	cutMiddle
)

// some is how many bytes go through before something is cut: less than any question or answer has.
const some = 40

// proxy is a way to a site that fails when it is told to.
type proxy struct {
	l    net.Listener
	to   string
	mu   sync.Mutex
	now  fault
	open []net.Conn
}

func newProxy(t *testing.T, to string) *proxy {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &proxy{l: l, to: to}
	t.Cleanup(func() { l.Close(); p.set(none) })
	go p.serve()
	return p
}

func (p *proxy) address() string { return p.l.Addr().String() }

// set changes how the way fails, for the connections that are made from now on; those there are end.
func (p *proxy) set(f fault) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.now = f
	for _, c := range p.open {
		c.Close()
	}
	p.open = nil
}

func (p *proxy) keep(c net.Conn) fault {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.open = append(p.open, c)
	return p.now
}

func (p *proxy) serve() {
	for {
		c, err := p.l.Accept()
		if err != nil {
			return
		}
		switch f := p.keep(c); f {
		case refused:
			c.Close()
		case mute:
		default:
			go p.carry(c, f)
		}
	}
}

// carry brings what one side says to the other, as long as the fault lets it.
func (p *proxy) carry(c net.Conn, f fault) {
	defer c.Close()
	site, err := net.DialTimeout("tcp", p.to, 10*time.Second)
	if err != nil {
		return
	}
	defer site.Close()
	p.keep(site)
	go func() {
		if f == cutQuestion {
			_, _ = io.CopyN(site, c, some)
			c.Close()
			site.Close()
			return
		}
		_, _ = io.Copy(site, c)
	}()
	switch f {
	case deaf:
		_, _ = io.Copy(io.Discard, site)
	case cutAnswer:
		_, _ = io.ReadFull(site, make([]byte, 1))
	case cutMiddle:
		_, _ = io.CopyN(c, site, some)
	default:
		_, _ = io.Copy(c, site)
	}
}
