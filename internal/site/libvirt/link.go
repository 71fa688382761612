package libvirt

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"github.com/digitalocean/go-libvirt"

	"andamio/internal/site"
)

// Timeout bounds one call; a daemon that is silent for longer has failed transiently. Copying bounds one that has a host copy a disk.
const (
	Timeout = 30 * time.Second
	copying = 10 * time.Minute
)

// host is one machine with a daemon, and the connection to it, which is made when it is needed and made anew when it broke.
type host struct {
	// site is the site's name, and name the zone that the host is of it.
	site, name string
	// first is the first host of the site, which may be this.
	first *host
	door
	patience time.Duration

	mu  sync.Mutex
	now *link
	// jobs are the locks of machines whose disks are copied.
	jobs map[string]*sync.Mutex
	// described are the definitions of machines as they were read last.
	described map[libvirt.UUID]*described
	// counted is what was counted of machines that are on when they were measured last.
	counted map[libvirt.UUID]counters

	flows flows

	// trying is held while it is tried whether machines run with KVM, and kvm is what that came to.
	trying sync.Mutex
	kvm    verdict
}

// link is one connection to a daemon.
type link struct {
	*libvirt.Libvirt
	conn *framed

	mu sync.Mutex
	// calls is how many are on their way; left says that no other is to be made, and the connection ends with the last of them.
	calls int
	left  bool
}

// alive reports that nothing has ended the connection yet.
func (l *link) alive() bool {
	select {
	case <-l.conn.ended:
		return false
	default:
		return true
	}
}

// done ends a call. One that was not answered in time has the connection be left: whatever else is on its way there has its own time,
// and is answered or not.
func (l *link) done(inTime bool) {
	l.mu.Lock()
	l.calls--
	l.left = l.left || !inTime
	over := l.left && l.calls == 0
	l.mu.Unlock()
	if over {
		l.conn.Close()
	}
}

// take begins a call, if there may be another.
func (l *link) take() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.left || !l.alive() {
		return false
	}
	l.calls++
	return true
}

// call does something over the connection, at most for as long as the host's patience lasts; the protocol has no deadlines.
func (h *host) call(ctx context.Context, doing string, do func(ctx context.Context, l *libvirt.Libvirt) error) error {
	return h.within(ctx, h.patience, doing, do)
}

func (h *host) within(ctx context.Context, most time.Duration, doing string, do func(ctx context.Context, l *libvirt.Libvirt) error) error {
	_, err := answer(ctx, h, most, doing, func(ctx context.Context, l *libvirt.Libvirt) (struct{}, error) { return struct{}{}, do(ctx, l) })
	return err
}

// told is what something comes to that is asked over the connection, within the host's patience.
func told[T any](ctx context.Context, h *host, doing string, ask func(ctx context.Context, l *libvirt.Libvirt) (T, error)) (T, error) {
	return answer(ctx, h, h.patience, doing, ask)
}

// answer is what something comes to that is asked over the connection. What is not answered in time goes on by itself, so that nobody may
// read what it writes.
func answer[T any](ctx context.Context, h *host, most time.Duration, doing string, ask func(ctx context.Context, l *libvirt.Libvirt) (T, error)) (T, error) {
	type answered struct {
		what T
		err  error
	}
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	var out answered
	l, err := h.connected(ctx)
	if err != nil {
		return out.what, h.failed(doing, err)
	}
	got := make(chan answered, 1)
	go func() {
		what, err := ask(ctx, l.Libvirt)
		got <- answered{what, err}
	}()
	select {
	case out = <-got:
		l.done(true)
	case <-ctx.Done():
		l.done(false)
		out.err = broken{fmt.Errorf("no answer came in time: %w", context.Cause(ctx))}
	}
	if out.err != nil && !l.alive() {
		out.err = broken{out.err}
	}
	return out.what, h.failed(doing, out.err)
}

// broken is an error of a connection that broke: nothing is known of what was asked.
type broken struct{ error }

func (b broken) Unwrap() error { return b.error }

// connected is the connection to the daemon, made if there is none.
func (h *host) connected(ctx context.Context) (*link, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.now != nil && h.now.take() {
		return h.now, nil
	}
	conn, err := h.dial(ctx)
	if err != nil {
		return nil, broken{err}
	}
	l := &link{conn: newFramed(conn), calls: 1}
	l.Libvirt = libvirt.NewWithDialer(given{l.conn})
	opened := make(chan error, 1)
	go func() { opened <- l.ConnectToURI(libvirt.QEMUSystem) }()
	select {
	case err = <-opened:
	case <-ctx.Done():
		err = fmt.Errorf("no answer came in time: %w", context.Cause(ctx))
	}
	if err != nil {
		l.conn.Close()
		return nil, broken{err}
	}
	h.now = l
	return l, nil
}

// given dials a connection that there is already.
type given struct{ conn net.Conn }

func (g given) Dial() (net.Conn, error) { return g.conn, nil }

// The bounds of a message of the protocol: a length and a header, and what a daemon puts into one at most (VIR_NET_MESSAGE_MAX).
const (
	leastMessage = 28
	mostMessage  = 32<<20 + leastMessage
)

// framed is a connection on which only messages of a length that can be are read: the library believes what it is told, and a peer
// that is no daemon could have it end the program.
type framed struct {
	net.Conn
	once  sync.Once
	ended chan struct{}
	// left is how much of the message that is read now is still to come; head is the length of the next, as far as it was read.
	left int
	head []byte
}

func newFramed(conn net.Conn) *framed { return &framed{Conn: conn, ended: make(chan struct{})} }

// Close ends the connection.
func (f *framed) Close() error {
	err := net.ErrClosed
	f.once.Do(func() {
		close(f.ended)
		err = f.Conn.Close()
	})
	return err
}

var errNoMessage = errors.New("what answers there does not speak libvirt's protocol")

// Read reads at most to the end of a message.
func (f *framed) Read(into []byte) (int, error) {
	if f.left == 0 {
		head := make([]byte, 4)
		if _, err := io.ReadFull(f.Conn, head); err != nil {
			f.Close()
			return 0, io.EOF
		}
		length := binary.BigEndian.Uint32(head)
		if length < leastMessage || length > mostMessage {
			f.Close()
			return 0, errNoMessage
		}
		f.head, f.left = head, int(length)
	}
	if len(f.head) > 0 {
		n := copy(into, f.head)
		f.head, f.left = f.head[n:], f.left-n
		return n, nil
	}
	n, err := f.Conn.Read(into[:min(len(into), f.left)])
	f.left -= n
	if err != nil {
		f.Close()
		err = io.EOF // the library goes on after errors that it takes for passing
	}
	return n, err
}

// failed makes an error one of the site.
func (h *host) failed(doing string, err error) error {
	if err == nil {
		return nil
	}
	var own *site.Error
	if errors.As(err, &own) {
		return err
	}
	class, detail := classify(err)
	return &site.Error{Site: h.site, Doing: doing, Class: class, Detail: detail, Err: err}
}
