package libvirt

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"slices"
	"testing"
	"time"

	golibvirt "github.com/digitalocean/go-libvirt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// daemon answers the first calls as one does, and then with whatever it is told to.
type daemon struct {
	then func(c net.Conn, serial uint32)
}

// head is a message's head, with the length of what follows.
func head(kind, serial, status uint32, body []byte) []byte {
	var x xdr
	for _, n := range []uint32{uint32(headerSize + len(body)), program, version, 0, kind, serial, status} {
		x.number(n)
	}
	x.Write(body)
	return x.Bytes()
}

func (d daemon) dial(context.Context) (net.Conn, error) {
	ours, theirs := net.Pipe()
	go func() {
		defer theirs.Close()
		for {
			h := make([]byte, headerSize)
			if _, err := io.ReadFull(theirs, h); err != nil {
				return
			}
			if _, err := io.CopyN(io.Discard, theirs, int64(binary.BigEndian.Uint32(h))-headerSize); err != nil {
				return
			}
			proc, serial := binary.BigEndian.Uint32(h[12:]), binary.BigEndian.Uint32(h[20:])
			switch {
			case proc == procAuthList:
				_, _ = theirs.Write(head(typeReply, serial, statusOK, []byte{0, 0, 0, 1, 0, 0, 0, 0}))
			case proc == procConnectOpen:
				_, _ = theirs.Write(head(typeReply, serial, statusOK, nil))
			default:
				d.then(theirs, serial)
				return
			}
		}
	}()
	return ours, nil
}

func (d daemon) host(patience time.Duration) *host {
	return &host{site: "forja", name: "local", door: door{dial: d.dial}, patience: patience}
}

// TestADaemonThatIsNone has what answers there say what no daemon does: each read ends with an error that may pass, in time, and nothing
// falls over.
func TestADaemonThatIsNone(t *testing.T) {
	vol := golibvirt.StorageVol{Pool: "default", Name: "x", Key: "/x"}
	for name, then := range map[string]func(c net.Conn, serial uint32){
		"nothing, and hangs up":     func(net.Conn, uint32) {},
		"a message of no length":    func(c net.Conn, _ uint32) { _, _ = c.Write([]byte{0, 0, 0, 0}) },
		"one shorter than its head": func(c net.Conn, _ uint32) { _, _ = c.Write([]byte{0, 0, 0, 27}) },
		"one larger than any":       func(c net.Conn, _ uint32) { _, _ = c.Write([]byte{0xff, 0xff, 0xff, 0xff}) },
		"a stream without a reply":  func(c net.Conn, n uint32) { _, _ = c.Write(head(typeStream, n, statusContinue, nil)) },
		"a call of its own":         func(c net.Conn, n uint32) { _, _ = c.Write(head(typeCall, n, statusContinue, nil)) },
		"more than was asked for": func(c net.Conn, n uint32) {
			_, _ = c.Write(head(typeReply, n, statusOK, nil))
			_, _ = c.Write(head(typeStream, n, statusContinue, make([]byte, 5000)))
		},
		"a hole beyond the end": func(c net.Conn, n uint32) {
			_, _ = c.Write(head(typeReply, n, statusOK, nil))
			_, _ = c.Write(head(typeHole, n, statusContinue, []byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0, 0, 0, 0}))
		},
		"an error cut short": func(c net.Conn, n uint32) { _, _ = c.Write(head(typeReply, n, statusError, []byte{0, 0})) },
		"half of it": func(c net.Conn, n uint32) {
			_, _ = c.Write(head(typeReply, n, statusOK, nil))
			_, _ = c.Write(head(typeStream, n, statusContinue, make([]byte, 1000)))
		},
	} {
		t.Run(name, func(t *testing.T) {
			h := daemon{then}.host(2 * time.Second)
			ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
			defer cancel()
			_, err := h.download(ctx, vol, 0, 4096)
			class, _ := classify(err)
			assert.Equal(t, site.Transient, class, "%v", err)
		})
	}
}

// TestAStreamThatIsSilentEnds holds that a stream that says nothing ends with its context.
func TestAStreamThatIsSilentEnds(t *testing.T) {
	h := daemon{func(c net.Conn, _ uint32) { _, _ = io.Copy(io.Discard, c) }}.host(time.Second)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := h.download(ctx, golibvirt.StorageVol{}, 0, 4096)
	assert.ErrorContains(t, err, "no answer came in time")
}

// TestHolesAndDataAreReadInOrder has a stream of both, and the handshake with which it ends, without which daemons keep it open. The reply by which it
// is opened may come after any of its messages: a daemon's hands race.
func TestHolesAndDataAreReadInOrder(t *testing.T) {
	for at := range 5 {
		t.Run(fmt.Sprintf("the reply is message %d", at), func(t *testing.T) { holesAndData(t, at) })
	}
}

func holesAndData(t *testing.T, reply int) {
	ended := make(chan bool, 1)
	h := daemon{func(c net.Conn, n uint32) {
		for _, m := range slices.Insert([][]byte{head(typeStream, n, statusContinue, []byte("ab")),
			head(typeHole, n, statusContinue, []byte{0, 0, 0, 0, 0, 0, 0, 3, 0, 0, 0, 0}), head(typeStream, n+7, statusContinue, []byte("of another call")),
			head(typeStream, n, statusContinue, []byte("cd")), head(typeStream, n, statusContinue, nil)}, reply, head(typeReply, n, statusOK, nil)) {
			if _, err := c.Write(m); err != nil {
				return
			}
		}
		finish := make([]byte, headerSize)
		_, err := io.ReadFull(c, finish)
		ended <- err == nil && binary.BigEndian.Uint32(finish[16:]) == typeStream && binary.BigEndian.Uint32(finish[24:]) == statusOK
		_, _ = c.Write(head(typeStream, n, statusOK, nil))
		_, _ = io.Copy(io.Discard, c)
	}}.host(5 * time.Second)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	got, err := h.download(ctx, golibvirt.StorageVol{}, 0, 7)
	require.NoError(t, err)
	assert.Equal(t, "ab\x00\x00\x00cd", string(got))
	assert.True(t, <-ended)
}

// TestWhatADaemonRefuses holds the classes of its errors.
func TestWhatADaemonRefuses(t *testing.T) {
	for number, want := range map[golibvirt.ErrorNumber]site.Class{golibvirt.ErrNoDomain: site.NotFound, golibvirt.ErrNoStorageVol: site.NotFound, golibvirt.ErrOperationInvalid: site.Conflict,
		golibvirt.ErrOperationTimeout: site.Transient, golibvirt.ErrAuthFailed: site.Refused, golibvirt.ErrXMLError: site.Refused} {
		h := &host{site: "forja"}
		err := h.failed("do it", golibvirt.Error{Code: uint32(number), Message: "so"})
		assert.Equal(t, want, site.ClassOf(err))
		assert.ErrorContains(t, err, "forja: do it")
	}
	h := daemon{func(c net.Conn, n uint32) {
		var x xdr
		for _, v := range []uint32{uint32(golibvirt.ErrNoStorageVol), 0, 1} {
			x.number(v)
		}
		x.text("no such volume")
		_, _ = c.Write(head(typeReply, n, statusError, x.Bytes()))
	}}.host(time.Second)
	_, err := h.download(t.Context(), golibvirt.StorageVol{}, 0, 7)
	assert.True(t, absent(err))
	assert.ErrorContains(t, err, "no such volume")
}

// TestAHostThatIsSilentMakesNothingGone holds that what another host may have is not said to be gone.
func TestAHostThatIsSilentMakesNothingGone(t *testing.T) {
	none := func(*host) (int, error) { return 0, &site.Error{Class: site.NotFound} }
	quiet := func(h *host) (int, error) {
		if h.name == "b" {
			return 0, &site.Error{Class: site.Transient, Detail: "silent"}
		}
		return none(h)
	}
	d := &Driver{name: "forja", hosts: []*host{{name: "a"}, {name: "b"}}}
	_, err := first(d, kinds.Volume, "x", none)
	assert.Equal(t, site.NotFound, site.ClassOf(err))
	_, err = first(d, kinds.Volume, "x", quiet)
	assert.Equal(t, site.Transient, site.ClassOf(err))
	got, err := first(d, kinds.Volume, "x", func(h *host) (int, error) {
		if h.name == "b" {
			return 7, nil
		}
		return 0, &site.Error{Class: site.Transient}
	})
	require.NoError(t, err)
	assert.Equal(t, 7, got, "one that has it says so, whoever else is silent")
}
