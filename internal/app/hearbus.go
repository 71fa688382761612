package app

import (
	"context"
	"time"

	"andamio/internal/bus"
	"andamio/internal/core/hook"
	"andamio/internal/notice"
	"andamio/internal/service/workspace"
)

// busName is what those that serve a workspace listen by: each notice goes to one of them.
const busName = "andamio"

// busAgain is after how long a bus is tried again that is not there.
const busAgain = 10 * time.Second

// hearBus hears notices on a bus, too: under its subject and the name of a site, with the header fields that they have over HTTP, signed alike. Where the bus is not there it is tried again
// until the listener is closed; what was published meanwhile is not heard, as what is sent over HTTP to nobody.
func (l *Listener) hearBus(ctx context.Context, h workspace.Hearing) {
	if h.Bus == nil {
		return
	}
	ctx, l.busLeft = context.WithCancel(ctx)
	l.done.Go(func() {
		for ctx.Err() == nil {
			hearing, err := l.joinBus(ctx, h)
			if err == nil {
				l.OnBus.Store(true)
				select {
				case <-ctx.Done():
				case <-hearing.Gone():
				}
				l.OnBus.Store(false)
				hearing.Close()
				continue
			}
			l.a.Log.Warn("notices are not heard on the bus", "server", h.Bus.Server, "subject", h.Bus.Subject, "err", err)
			select {
			case <-ctx.Done():
			case <-time.After(busAgain):
			}
		}
	})
}

// joinBus listens on a bus.
func (l *Listener) joinBus(ctx context.Context, h workspace.Hearing) (*bus.Hearing, error) {
	at, err := l.a.busServer(h.Bus, h.Secret)
	if err != nil {
		return nil, err
	}
	return l.hearAt(ctx, at, h.Bus.Subject)
}

// busServer is a bus as it is connected to.
func (a *App) busServer(b *hook.Bus, secret string) (bus.Server, error) {
	out := bus.Server{URL: b.Server, User: b.User, Authority: b.Authority}
	if secret == "" {
		return out, nil
	}
	values, err := a.workspace.Secrets([]string{secret})
	out.Secret = values[secret]
	return out, err
}

// hearAt hears what is published under a subject and the name of a site.
func (l *Listener) hearAt(ctx context.Context, at bus.Server, subject string) (*bus.Hearing, error) {
	return bus.Hear(ctx, at, subject, busName, func(m bus.Message) {
		r := l.receivers[m.Last]
		if r == nil {
			l.a.Log.Info("a notice on the bus is about no site that is connected", "site", m.Last)
			return
		}
		if len(m.Body) > notice.MaxBody {
			l.a.Log.Info("a notice on the bus is too large", "site", m.Last)
			return
		}
		if _, err := r.Take(m.Header, m.Body); err != nil {
			l.a.Log.Info("a notice on the bus is not heard", "site", m.Last, "err", err)
		}
	}, func(err error) {
		if err != nil {
			l.a.Log.Info("the bus of notices is troubled", "err", err)
		}
	})
}
