package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"sync"
	"time"

	"github.com/libp2p/go-yamux/v5"

	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
)

// Here is what whoever asks sits at.
type Here struct {
	In       io.Reader
	Out, Err io.Writer
	// Raw has what is typed come as it is, key by key, or by lines again.
	Raw func(on bool) error
	// Resized are the sizes that the terminal takes.
	Resized <-chan Size
}

// asking is a session at the end of whoever asks.
type asking struct {
	mux     *yamux.Session
	streams map[byte]net.Conn
	control *control
}

// Ask has something run over a connection, sends the files that it names, joins what it reads and writes to what is here, and returns the status with which it ended, once the
// files that it wrote are here. When the context ends it is interrupted.
func Ask(ctx context.Context, conn net.Conn, asked Asked, here Here) (status int, err error) {
	a, err := open(ctx, conn)
	if err != nil {
		return 0, fault.Unavailablef("the server does not begin: %w", err)
	}
	defer a.mux.Close()
	if err := a.control.say(asked); err != nil {
		return 0, gone(err)
	}
	stop := context.AfterFunc(ctx, func() {
		_ = a.control.say(said{Interrupt: true})
		time.AfterFunc(endWithin, func() { a.mux.Close() })
	})
	defer stop()
	sent := make(chan error, 1)
	go func() {
		err := send(leading{patient{a.streams[streamFiles]}}, asked.Files)
		if err = errors.Join(err, closeWrite(a.streams[streamFiles])); err != nil {
			a.mux.Close()
		}
		sent <- err
	}()
	var shown sync.WaitGroup
	shown.Go(func() { _, _ = io.Copy(here.Out, a.streams[streamOut]) })
	shown.Go(func() { _, _ = io.Copy(here.Err, a.streams[streamErr]) })
	go a.typed(here.In)
	go a.tellSizes(here.Resized)
	var written error
	shown.Go(func() { _, written = take(a.streams[streamFiles], asked.Files, math.MaxInt64) })
	status, err = a.follow(here)
	if err != nil {
		a.mux.Close()
	}
	shown.Wait()
	return status, cmp.Or(refusal(err), <-sent, err, written)
}

// refusal is an error that the server gave as why it does not begin: others follow from it.
func refusal(err error) error {
	if r := (refused{}); errors.As(err, &r) {
		return err
	}
	return nil
}

// refused marks what a server gave as why it does not begin.
type refused struct{ error }

// leading writes to a server, which may go away.
type leading struct{ io.Writer }

func (l leading) Write(b []byte) (int, error) {
	n, err := l.Writer.Write(b)
	if err != nil {
		err = gone(err)
	}
	return n, err
}

// gone says that a server is not there any more.
func gone(err error) error {
	return fault.Unavailablef("the server is gone: what was begun there goes on or ends there: %w", err)
}

// open begins the streams of a session.
func open(ctx context.Context, conn net.Conn) (*asking, error) {
	mux, err := yamux.Client(conn, config(), nil)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	ctx, cancel := context.WithTimeout(ctx, beginWithin)
	defer cancel()
	a := &asking{mux: mux, streams: map[byte]net.Conn{}}
	for _, letter := range []byte(streams) {
		c, err := mux.OpenStream(ctx)
		if err == nil {
			_, err = c.Write([]byte{letter})
		}
		if err != nil {
			return nil, errors.Join(err, mux.Close())
		}
		a.streams[letter] = c
	}
	a.control = newControl(a.streams[streamControl])
	return a, nil
}

// typed sends what is typed.
func (a *asking) typed(from io.Reader) {
	if from != nil {
		_, _ = io.Copy(a.streams[streamIn], from)
	}
	_ = closeWrite(a.streams[streamIn])
}

// tellSizes tells the sizes that the terminal takes.
func (a *asking) tellSizes(sizes <-chan Size) {
	for {
		select {
		case <-a.mux.CloseChan():
			return
		case s, more := <-sizes:
			if !more || a.control.say(said{Size: &s}) != nil {
				return
			}
		}
	}
}

// follow heeds what the server says, until it says how what was asked for ended.
func (a *asking) follow(here Here) (int, error) {
	for {
		var s said
		if err := a.control.hear(&s); err != nil {
			return 0, gone(err)
		}
		switch {
		case s.Refused != "":
			return 0, fault.Default(s.Code, refused{errors.New(printable.Clean(s.Refused))})
		case s.Ended != nil:
			if *s.Ended < 0 || *s.Ended > 255 {
				return 0, fmt.Errorf("the server says that it ended with %d", *s.Ended)
			}
			return *s.Ended, nil
		case s.Raw != nil && here.Raw != nil:
			if err := here.Raw(*s.Raw); err != nil {
				return 0, err
			}
		}
	}
}
