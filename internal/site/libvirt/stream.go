package libvirt

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"github.com/digitalocean/go-libvirt"
)

// What flows (the bytes of volumes, what a console says) is spoken by ourselves, over connections of its own: the library forgets the
// handshake with which a stream ends, so that daemons keep streams open and the next come broken. Messages are those of libvirt's remote
// protocol (docs/internals/rpc of libvirt; src/rpc/virnetprotocol.x and src/remote/remote_protocol.x): a length, a header, and what is in
// them in XDR (RFC 4506).

const (
	program = 0x20008086
	version = 1

	procConnectOpen  = 1
	procAuthList     = 66
	procAuthPolkit   = 70
	procOpenConsole  = 201
	procVolUpload    = 208
	procVolDownload  = 209
	authNone         = 0
	authPolkit       = 2
	sparse           = 1
	mostData         = 256<<10 - 24 // what every daemon takes at once
	headerSize       = 28
	typeCall         = 0
	typeReply        = 1
	typeStream       = 3
	typeHole         = 6
	statusOK         = 0
	statusError      = 1
	statusContinue   = 2
	idleStreams      = 4 // connections that are kept for the next
	streamOpens      = 10 * time.Second
	mostErrorMessage = 64 << 10
	mostEarly        = 64 << 20 // of what comes before the reply that it belongs to
)

// flow is a connection for one stream at a time.
type flow struct {
	conn   *framed
	serial uint32
	proc   uint32
	mu     sync.Mutex // writes whole messages
	// early are messages of a stream that came before the reply that opens it: daemons send with several hands.
	early []message
}

// message is one that came.
type message struct {
	kind, status uint32
	body         []byte
}

// xdr writes values as RFC 4506 has them.
type xdr struct{ bytes.Buffer }

func (x *xdr) number(n uint32) { _ = binary.Write(x, binary.BigEndian, n) }

func (x *xdr) long(n uint64) { _ = binary.Write(x, binary.BigEndian, n) }

func (x *xdr) text(s string) {
	x.number(uint32(len(s)))
	x.WriteString(s)
	x.Write(make([]byte, (4-len(s)%4)%4))
}

// maybe writes a text that need not be there.
func (x *xdr) maybe(s string) {
	if s == "" {
		x.number(0)
		return
	}
	x.number(1)
	x.text(s)
}

func (x *xdr) volume(vol libvirt.StorageVol) {
	x.text(vol.Pool)
	x.text(vol.Name)
	x.text(vol.Key)
}

func (x *xdr) domain(of libvirt.Domain) {
	x.text(of.Name)
	x.Write(of.UUID[:])
	x.number(uint32(of.ID))
}

// send writes one message.
func (f *flow) send(kind, status uint32, body []byte) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	var x xdr
	for _, n := range []uint32{uint32(headerSize + len(body)), program, version, f.proc, kind, f.serial, status} {
		x.number(n)
	}
	x.Write(body)
	_, err := f.conn.Write(x.Bytes())
	return err
}

// next is the next message of the call that is on its way.
func (f *flow) next() (message, error) {
	if len(f.early) > 0 {
		m := f.early[0]
		f.early = f.early[1:]
		return m, nil
	}
	return f.read()
}

// read reads the next message of the call that is on its way; others, such as signs of life, are passed over.
func (f *flow) read() (message, error) {
	for {
		head := make([]byte, headerSize)
		if _, err := io.ReadFull(f.conn, head); err != nil {
			return message{}, broken{err}
		}
		n := func(i int) uint32 { return binary.BigEndian.Uint32(head[4*i:]) }
		body := make([]byte, n(0)-headerSize)
		if _, err := io.ReadFull(f.conn, body); err != nil {
			return message{}, broken{err}
		}
		if n(1) != program || n(5) != f.serial {
			continue
		}
		m := message{kind: n(4), status: n(6), body: body}
		if m.status == statusError {
			return m, failure(body)
		}
		return m, nil
	}
}

// failure is the error that a daemon answers with.
func failure(body []byte) error {
	r := bytes.NewReader(body)
	var code, domain, has, length uint32
	for _, into := range []*uint32{&code, &domain, &has} {
		if binary.Read(r, binary.BigEndian, into) != nil {
			return broken{errUnread}
		}
	}
	text := "it does not say why"
	if has == 1 && binary.Read(r, binary.BigEndian, &length) == nil && length <= mostErrorMessage && int(length) <= r.Len() {
		said := make([]byte, length)
		_, _ = io.ReadFull(r, said)
		text = string(said)
	}
	return libvirt.Error{Code: code, Message: text}
}

// ask makes a call, and returns what is in the reply.
func (f *flow) ask(proc uint32, body []byte) ([]byte, error) {
	f.serial++
	f.proc, f.early = proc, nil
	if err := f.send(typeCall, statusOK, body); err != nil {
		return nil, broken{err}
	}
	size := 0
	for {
		m, err := f.read()
		switch {
		case err != nil || m.kind == typeReply:
			return m.body, err
		case m.kind != typeStream && m.kind != typeHole || size > mostEarly:
			return nil, broken{fmt.Errorf("%w: a message of kind %d instead of a reply to %d", errUnread, m.kind, proc)}
		}
		f.early = append(f.early, m)
		size += headerSize + len(m.body)
	}
}

// open makes a connection on which streams can be opened.
func (h *host) openFlow(ctx context.Context) (*flow, error) {
	conn, err := h.dial(ctx)
	if err != nil {
		return nil, broken{err}
	}
	f := &flow{conn: newFramed(conn)}
	defer bound(ctx, conn)()
	if err := f.introduce(); err != nil {
		conn.Close()
		return nil, err
	}
	return f, nil
}

// introduce says who we are, and which of the daemon's drivers is meant.
func (f *flow) introduce() error {
	kinds, err := f.ask(procAuthList, nil)
	if err != nil {
		return err
	}
	if len(kinds) >= 8 {
		switch binary.BigEndian.Uint32(kinds[4:]) {
		case authNone:
		case authPolkit:
			if _, err := f.ask(procAuthPolkit, nil); err != nil {
				return err
			}
		default:
			return errors.New("the daemon asks for a name and a password, which is not supported: use SSH or certificates")
		}
	}
	var x xdr
	x.maybe(string(libvirt.QEMUSystem))
	x.number(0)
	_, err = f.ask(procConnectOpen, x.Bytes())
	return err
}

// bound has a connection end what is read and written when the context does; what it returns takes that back.
func bound(ctx context.Context, conn net.Conn) func() {
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	return func() { stop() }
}

// flows are connections of a host that nobody uses.
type flows struct {
	mu   sync.Mutex
	idle []*flow
}

// flowing has something done over a connection for streams, that is kept for the next if nothing went wrong. One that had been idle may
// have ended meanwhile: then another is made, if nothing was asked over it yet.
func (h *host) flowing(ctx context.Context, do func(f *flow) error) error {
	for {
		f, used, err := h.flow(ctx)
		if err != nil {
			return err
		}
		stop := bound(ctx, f.conn.Conn)
		err = do(f)
		stop()
		var told libvirt.Error
		switch {
		case err == nil || errors.As(err, &told) && ctx.Err() == nil:
			h.flows.mu.Lock()
			if len(h.flows.idle) < idleStreams && err == nil && ctx.Err() == nil {
				h.flows.idle = append(h.flows.idle, f)
				f = nil
			}
			h.flows.mu.Unlock()
		case used && ctx.Err() == nil:
			f.conn.Close()
			continue
		}
		if f != nil {
			f.conn.Close()
		}
		if err != nil && ctx.Err() != nil {
			err = broken{fmt.Errorf("no answer came in time: %w", context.Cause(ctx))}
		}
		return err
	}
}

// flow is a connection that nobody uses, or a new one; used says that it had been.
func (h *host) flow(ctx context.Context) (f *flow, used bool, err error) {
	h.flows.mu.Lock()
	if n := len(h.flows.idle); n > 0 {
		f = h.flows.idle[n-1]
		h.flows.idle = h.flows.idle[:n-1]
	}
	h.flows.mu.Unlock()
	if f != nil {
		return f, true, nil
	}
	ctx, cancel := context.WithTimeout(ctx, streamOpens)
	defer cancel()
	f, err = h.openFlow(ctx)
	return f, false, err
}

// download reads a part of a volume. Holes come as their lengths alone.
func (h *host) download(ctx context.Context, vol libvirt.StorageVol, at, length uint64) ([]byte, error) {
	var out []byte
	err := h.flowing(ctx, func(f *flow) error {
		out = make([]byte, 0, length)
		var x xdr
		x.volume(vol)
		x.long(at)
		x.long(length)
		x.number(sparse)
		if _, err := f.ask(procVolDownload, x.Bytes()); err != nil {
			return err
		}
		for {
			m, err := f.next()
			if err != nil {
				return err
			}
			switch {
			case m.kind == typeHole && len(m.body) >= 8:
				n := binary.BigEndian.Uint64(m.body)
				if n > length-uint64(len(out)) {
					return broken{errTooMuch}
				}
				out = out[:uint64(len(out))+n]
			case m.kind != typeStream || m.status != statusContinue:
				return broken{fmt.Errorf("%w: a message of kind %d and status %d, of %d bytes", errUnread, m.kind, m.status, len(m.body))}
			case len(m.body) == 0:
				return f.finish()
			case uint64(len(m.body)) > length-uint64(len(out)):
				return broken{errTooMuch}
			default:
				out = append(out, m.body...)
			}
		}
	})
	if err == nil && uint64(len(out)) != length {
		err = broken{fmt.Errorf("%d of %d bytes came", len(out), length)}
	}
	return out, err
}

var errTooMuch = errors.New("the host sent more than it was asked for")

// finish ends a stream, and hears that the daemon has ended it too.
func (f *flow) finish() error {
	if err := f.send(typeStream, statusOK, nil); err != nil {
		return broken{err}
	}
	for {
		m, err := f.next()
		if err != nil || m.kind == typeStream && m.status == statusOK {
			return err
		}
	}
}

// upload writes a part of a volume.
func (h *host) upload(ctx context.Context, vol libvirt.StorageVol, at uint64, data []byte) error {
	return h.flowing(ctx, func(f *flow) error {
		var x xdr
		x.volume(vol)
		x.long(at)
		x.long(uint64(len(data)))
		x.number(0)
		if _, err := f.ask(procVolUpload, x.Bytes()); err != nil {
			return err
		}
		for rest := data; len(rest) > 0; {
			n := min(mostData, len(rest))
			if err := f.send(typeStream, statusContinue, rest[:n]); err != nil {
				return broken{err}
			}
			rest = rest[n:]
		}
		return f.finish()
	})
}
