package libvirt

import (
	"context"
	"io"
	"sync"
	"time"

	"github.com/digitalocean/go-libvirt"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

var _ site.Consoler = (*Driver)(nil)

// force takes a console from whoever has it.
const force = 1

// Console opens the serial console of a machine that is on.
func (d *Driver) Console(ctx context.Context, instance string) (io.ReadWriteCloser, error) {
	return first(d, kinds.Instance, instance, func(h *host) (io.ReadWriteCloser, error) {
		m, err := told(ctx, h, "open the console", func(_ context.Context, l *libvirt.Libvirt) (*domain, error) { return domainOf(l, instance) })
		if err != nil {
			return nil, err
		}
		if !m.on() {
			return nil, d.fail(site.Conflict, "open the console", "%s is switched off", m.title())
		}
		return h.openConsole(ctx, m.Domain)
	})
}

// openConsole opens the first serial console of a machine, whoever has it.
func (h *host) openConsole(ctx context.Context, m libvirt.Domain) (*console, error) {
	f, err := h.openFlow(ctx)
	if err != nil {
		return nil, h.failed("open the console", err)
	}
	stop := bound(ctx, f.conn.Conn)
	defer stop()
	var x xdr
	x.domain(m)
	x.maybe("") // the first there is
	x.number(force)
	if _, err := f.ask(procOpenConsole, x.Bytes()); err != nil {
		f.conn.Close()
		return nil, h.failed("open the console", err)
	}
	return &console{flow: f, over: make(chan struct{})}, nil
}

// console is a stream in both directions.
type console struct {
	*flow
	said []byte
	// over is closed when nothing more is said.
	over chan struct{}
	once sync.Once
}

// parting is how long a daemon has to let go of a console. The next who opens it would be cut off by what is let go of late.
const parting = 2 * time.Second

// Read reads what the machine says; its end is that of the machine, or of the console.
func (c *console) Read(into []byte) (int, error) {
	for len(c.said) == 0 {
		m, err := c.next()
		if err != nil || m.kind == typeStream && m.status == statusOK {
			c.once.Do(func() { close(c.over) })
			return 0, io.EOF
		}
		if m.kind == typeStream {
			if len(m.body) == 0 {
				_ = c.send(typeStream, statusOK, nil) // it ended: so do we
			}
			c.said = m.body
		}
	}
	n := copy(into, c.said)
	c.said = c.said[n:]
	return n, nil
}

// Write types.
func (c *console) Write(typed []byte) (int, error) {
	done := 0
	for done < len(typed) {
		n := min(mostData, len(typed)-done)
		if err := c.send(typeStream, statusContinue, typed[done:done+n]); err != nil {
			return done, err
		}
		done += n
	}
	return done, nil
}

// Close leaves the console; the machine goes on.
func (c *console) Close() error {
	if c.send(typeStream, statusOK, nil) == nil {
		t := time.NewTimer(parting)
		defer t.Stop()
		select {
		case <-c.over:
		case <-t.C:
		}
	}
	return c.conn.Close()
}
