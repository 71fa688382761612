package crash

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/site"
)

// fell has a machine that is on be switched off at its site, lose all that runs on it, or vanish, and be raised again as is done by itself.
func (l *life) fell(ctx context.Context, id int64) error {
	d, err := l.a.Deployment(ctx, id)
	if err != nil {
		return err
	}
	var on []*plan.Resource
	for i := range d.Stand.Plan.Resources {
		if r := &d.Stand.Plan.Resources[i]; r.Kind == kinds.Instance && !r.Off {
			on = append(on, r)
		}
	}
	if len(on) == 0 {
		return nil
	}
	h := on[l.r.IntN(len(on))]
	how := []promise.How{promise.FellOff, promise.FellSilent, promise.FellGone}[l.r.IntN(3)]
	l.done = append(l.done, fmt.Sprintf("of it %s %s", h.ID, how))
	if err := l.brought(ctx, d.Stand.Plan, h, how); err != nil {
		return err
	}
	if how == promise.FellGone && h.ID == l.keeper() {
		l.word[id] = wordOf(d.Stand.Plan)
	}
	return l.raised(ctx, id, h.ID, how)
}

// brought has a machine be down in a way.
func (l *life) brought(ctx context.Context, p *plan.Plan, h *plan.Resource, how promise.How) error {
	if how == promise.FellGone {
		return l.vanish(ctx, p, h)
	}
	sites, err := l.a.Sites()
	if err != nil {
		return err
	}
	at, id := sites[h.Site], p.Known[h.ID]["site.id"]
	if err := turned(ctx, at, id, "stop", site.Stopped); err != nil || how == promise.FellOff {
		return err
	}
	return turned(ctx, at, id, "start", site.Active)
}

// turned has somebody switch a machine at its site, and waits until it is so.
func turned(ctx context.Context, at site.Site, id, action string, want site.State) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	if _, err := at.Invoke(ctx, kinds.Instance, id, action); err != nil {
		return err
	}
	for {
		got, err := at.Read(ctx, kinds.Instance, id)
		if err != nil || got.State == want {
			return err
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("it is %s still, and not %s", got.State, want)
		case <-time.After(5 * time.Millisecond):
		}
	}
}

// raised raises again what is down, as long as anything is: what answers nobody may do so because of the other.
func (l *life) raised(ctx context.Context, id int64, machine string, how promise.How) error {
	terms := promise.RecoveredTerms{After: time.Second, Tries: 20, Rebuild: true}
	now := time.Now()
	for range 4 {
		seen, err := l.a.Sights(ctx, id)
		if err != nil {
			return err
		}
		terms.Look(seen, now)
		now = now.Add(terms.After)
		terms.Look(seen, now)
		fell := terms.Picks(now)
		if len(fell) == 0 {
			break
		}
		l.done = append(l.done, fmt.Sprintf("raised %v", fell))
		o, err := l.a.RaisingAgain(ctx, id, fell)
		if err != nil {
			return err
		}
		if err := l.carry(ctx, o); err != nil {
			return err
		}
	}
	if len(terms.Down) > 0 {
		return fmt.Errorf("%s was %s, and these are down still: %v", machine, how, terms.Down)
	}
	return nil
}
