package crash

import (
	"context"
	"errors"
	"fmt"

	"andamio/internal/core/fault"
	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/service/templates"
)

// elsewhere has a machine be built at another site, as a reaction does where it cannot be raised: it is taken away before, and nothing else is. Where that may not be, nothing is done.
func (l *life) elsewhere(ctx context.Context, id int64) error {
	d, err := l.a.Deployment(ctx, id)
	if err != nil {
		return err
	}
	var all []*plan.Resource
	for i := range d.Stand.Plan.Resources {
		if r := &d.Stand.Plan.Resources[i]; r.Kind == kinds.Instance {
			all = append(all, r)
		}
	}
	if len(all) == 0 {
		return nil
	}
	h := all[l.r.IntN(len(all))]
	o, err := l.a.Rebuilding(ctx, id, []string{h.ID}, templates.Choices{Forbids: map[string][]string{h.ID: {h.Site}}}, "build "+h.ID+" elsewhere")
	if errors.As(err, new(*placement.Impossible)) || fault.CodeOf(err) == fault.Refused {
		l.done = append(l.done, fmt.Sprintf("of it %s nowhere else", h.ID))
		return nil
	}
	if err != nil {
		return err
	}
	l.done = append(l.done, fmt.Sprintf("of it %s from %s", h.ID, h.Site))
	l.losses(id, o.Plan, wordOf(d.Stand.Plan))
	return l.carry(ctx, o)
}
