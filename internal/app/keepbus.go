package app

import (
	"context"
	"crypto/tls"
	"errors"
	"net/netip"
	"strconv"
	"sync/atomic"
	"time"

	"andamio/internal/bus"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/hooks"
	"andamio/internal/service/workspace"
)

// The subjects of a bus that runs in the process which serves: of what happens, and of notices, before a full stop and the name of the site.
const (
	BusSubject  = "andamio"
	NoticesThat = "andamio-notices"
)

// folderBus is where the streams of a bus that runs in this process keep what they keep, in the folder of the workspace. All of it can be had anew.
const folderBus = "bus"

// keeping has what happens be in the stream of a bus, one pass after the other.
type keeping struct {
	at      bus.Server
	subject string
	stream  *bus.Stream
	in      *hooks.InStream
	// again is before when a bus that was away is not tried.
	again time.Time
}

// keepAgain is after how long a bus is tried again that was away.
const keepAgain = 3 * time.Second

// pass has all be in the stream that is not.
func (k *keeping) pass(ctx context.Context, a *App, at bus.Server, subject string, now time.Time) error {
	if k.stream != nil && (k.at != at || k.subject != subject) {
		k.leave()
	}
	if k.stream == nil {
		if now.Before(k.again) {
			return nil
		}
		s, err := bus.Join(ctx, at, subject)
		if err != nil {
			k.again = now.Add(keepAgain)
			return err
		}
		k.at, k.subject, k.stream, k.in = at, subject, s, &hooks.InStream{}
	}
	_, err := a.KeepIn(ctx, k.stream, k.in, now)
	if err != nil { // what it has is asked anew
		k.leave()
		k.again = now.Add(keepAgain)
	}
	return err
}

// leave ends the connection.
func (k *keeping) leave() {
	if k.stream != nil {
		k.stream.Close()
	}
	k.stream = nil
}

// keepOnBus has what happens be kept on the bus of the workspace, if it has one.
func (s *Serving) keepOnBus(ctx context.Context, h *held, now time.Time) {
	s.beside(ctx, h, &s.keepingOn, "what happens is not kept on the bus", func() error {
		b, err := h.a.workspace.Bus()
		if err != nil {
			return err
		}
		if b == (workspace.Bus{}) {
			h.bus.leave()
			return nil
		}
		at, err := h.a.busServer(&b.Bus, b.Secret)
		if err != nil {
			return err
		}
		return h.bus.pass(ctx, h.a, at, b.Subject, now)
	})
}

// ownBus is a bus that runs in the process which serves.
type ownBus struct {
	server  *bus.Embedded
	keeping keeping
	hearing *bus.Hearing
	going   atomic.Bool
}

// BusListening says where a bus runs in the process that serves: "" has none run. TLS is nil for one in clear, on this machine alone.
type BusListening struct {
	Address string
	TLS     *tls.Config
}

// RunBus has a bus run in the process that serves, until that ends, for whoever comes with a token that may read the log. It returns where it is.
func (s *Serving) RunBus(ctx context.Context, w BusListening) (url string, err error) {
	e, err := bus.Embed(ctx, bus.Embedding{Address: w.Address, TLS: w.TLS, Dir: s.a.workspace.Path(folderBus), Subject: BusSubject, Hears: NoticesThat, Door: busDoor{s.a}, Log: s.a.Log})
	if err != nil {
		return "", fault.Default(fault.Unavailable, err)
	}
	s.own = &ownBus{server: e}
	if s.own.hearing, err = s.hearAt(ctx, e.Server(), NoticesThat); err != nil {
		return "", errors.Join(err, s.endBus())
	}
	return e.URL(), nil
}

// keepOwn has what happens be kept on the bus that runs in this process.
func (s *Serving) keepOwn(ctx context.Context, now time.Time) {
	if s.own == nil || !s.own.going.CompareAndSwap(false, true) {
		return
	}
	s.work.Go(func() {
		defer s.own.going.Store(false)
		if err := s.own.keeping.pass(ctx, s.a, s.own.server.Server(), BusSubject, now); err != nil && ctx.Err() == nil {
			s.a.Log.Warn("what happens is not kept on the bus of this process", "err", err)
		}
	})
}

// endBus ends the bus that runs in this process, once nothing is kept on it any more.
func (s *Serving) endBus() error {
	if s.own == nil {
		return nil
	}
	if s.own.hearing != nil {
		s.own.hearing.Close()
	}
	s.own.keeping.leave()
	s.own.server.Close()
	s.own = nil
	return nil
}

// busDoor lets those listen at a bus who come with a token that may read the log.
type busDoor struct{ a *App }

// Enter says who comes with a token, by the name of that.
func (d busDoor) Enter(ctx context.Context, secret string, from netip.Addr) (string, error) {
	b, err := d.a.Bears(ctx, secret, from, time.Now())
	if err != nil {
		return "", err
	}
	_, err = d.a.Within(guard.Actor{Name: b.Token.Of, Way: guard.API}, b.Token.ID, b.Limits...).LastOfTrail(ctx, 1)
	return b.Token.ID, err
}

// Stay says whether a token holds still, and whoever it is of may read the log still.
func (d busDoor) Stay(ctx context.Context, id string, from netip.Addr) error {
	b, err := d.a.Borne(ctx, id, from, time.Now())
	if err != nil {
		return err
	}
	_, err = d.a.Within(guard.Actor{Name: b.Token.Of, Way: guard.API}, id, b.Limits...).LastOfTrail(ctx, 1)
	return err
}

// BusState says on which bus what happens in the workspace is kept, and how far that is.
type BusState struct {
	workspace.Bus
	// Kept is what its stream keeps; Behind how many entries of the log are not in it yet.
	Kept   bus.Kept `json:"kept"`
	Behind int64    `json:"behind"`
	// Trouble says why that is not known.
	Trouble string `json:"trouble,omitempty"`
}

// BusNow says on which bus what happens is kept, and asks that how far it is; nil if there is none.
func (a *App) BusNow(ctx context.Context) (*BusState, error) {
	if err := a.desk.Read("the bus"); err != nil {
		return nil, err
	}
	b, err := a.workspace.Bus()
	if err != nil || b == (workspace.Bus{}) {
		return nil, err
	}
	out := &BusState{Bus: b}
	if err := a.askBus(ctx, out); err != nil {
		out.Trouble = err.Error()
	}
	return out, nil
}

func (a *App) askBus(ctx context.Context, out *BusState) error {
	at, err := a.busServer(&out.Bus.Bus, out.Secret)
	if err != nil {
		return err
	}
	s, err := bus.Join(ctx, at, out.Subject)
	if err != nil {
		return err
	}
	defer s.Close()
	if out.Kept, err = s.Kept(ctx); err != nil {
		return err
	}
	last, err := a.store.LastOfTrail(ctx, 1)
	if err != nil || len(last) == 0 {
		return err
	}
	newest, err := s.Newest(ctx, "log")
	if err != nil {
		return err
	}
	out.Behind = last[0].Seq
	if newest != nil {
		seq, err := strconv.ParseInt(newest.ID(), 10, 64)
		if err != nil {
			return err
		}
		out.Behind = max(0, last[0].Seq-seq)
	}
	return nil
}

// SetBus has what happens be kept on a bus; the zero value has it be kept on none. One that does not let us in, or keeps nothing under the subject and is not let make a stream, is refused.
func (a *App) SetBus(ctx context.Context, b workspace.Bus) error {
	name := b.Server
	if name == "" {
		name = "none"
	}
	return a.desk.Do(ctx, guard.SetBus, guard.Named(name), func() error {
		if b != (workspace.Bus{}) {
			if err := b.Check(b.Secret); err != nil {
				return fault.Default(fault.Invalid, err)
			}
			at, err := a.busServer(&b.Bus, b.Secret)
			if err != nil {
				return err
			}
			s, err := bus.Join(ctx, at, b.Subject)
			if err != nil {
				return fault.Default(fault.Unavailable, err)
			}
			s.Close()
		}
		return a.workspace.SetBus(b)
	})
}
