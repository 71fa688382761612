package hooks

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/hook"
	"andamio/internal/core/trail"
)

// mostNoted is how many entries of the log are gathered at once, and looked back where nobody knows which were.
const mostNoted = 1000

// noted is what was noted in the log since it was gathered last; where nobody knows when that was, since a time. What is told twice is enlisted once. The cursor is moved by whoever has enlisted
// all of it.
func (svc *Service) noted(ctx context.Context, since time.Time) (out []hook.Event, last int64, err error) {
	svc.memory.mu.Lock()
	last = svc.memory.noted
	svc.memory.mu.Unlock()
	if last == 0 {
		if last, err = svc.before(ctx, since); err != nil {
			return nil, 0, err
		}
	}
	all, err := svc.store.Trail(ctx, last, mostNoted)
	for i := range all {
		e := &all[i]
		last = e.Seq
		if e.At.After(since) {
			out = append(out, ofEntry(e))
		}
	}
	return out, last, err
}

// before is an entry of the log before which nothing was noted since a time; 0 is before all.
func (svc *Service) before(ctx context.Context, since time.Time) (int64, error) {
	newest, err := svc.store.LastOfTrail(ctx, 1)
	if err != nil || len(newest) == 0 {
		return 0, err
	}
	for at := newest[0].Seq; ; {
		if at = max(0, at-mostNoted); at == 0 {
			return 0, nil
		}
		first, err := svc.store.Trail(ctx, at, 1)
		if err != nil || len(first) == 0 || first[0].At.Before(since) {
			return at, err
		}
	}
}

// ofEntry is an entry of the log as an event.
func ofEntry(e *trail.Entry) hook.Event {
	out := hook.Event{ID: fmt.Sprintf("log-%d", e.Seq), Type: hook.LogNoted, At: e.At, Name: e.On, Title: e.Words(), By: e.Name, Text: e.Note, Run: e.Run, Act: string(e.Act), Entry: e.Seq}
	if e.Failed != "" {
		out.Text = e.Failed
	}
	return out
}

// gathered says that entries of the log up to one were enlisted.
func (m *Memory) gathered(upTo int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.noted = max(m.noted, upTo)
}
