package promises

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/service/acting"
)

// mostEvents bounds how many events a calendar has.
const mostEvents = 10_000

// Calendar are the events that are due for promises after a time until another, the soonest first: of one deployment, or of all that the actor may see for 0.
func (svc *Service) Calendar(ctx context.Context, deployment int64, after, until time.Time) ([]calendar.Event, error) {
	all, err := svc.store.Promises(ctx)
	if err != nil {
		return nil, err
	}
	all, err = acting.Seen(ctx, svc.desk, all, func(p promise.Promise) guard.Thing { return guard.Thing{Deployment: p.Deployment} })
	if err != nil {
		return nil, err
	}
	var out []calendar.Event
	for i := range all {
		p := &all[i]
		if deployment != 0 && p.Deployment != deployment {
			continue
		}
		d, err := svc.store.Deployment(ctx, p.Deployment)
		if fault.CodeOf(err) == fault.NotFound {
			continue
		}
		if err != nil {
			return nil, err
		}
		if out, err = eventsOf(out, p, d.Name, after, until); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(out, func(a, b calendar.Event) int { return a.At.Compare(b.At) })
	return out, nil
}

// eventsOf adds what is due for a promise.
func eventsOf(out []calendar.Event, p *promise.Promise, name string, after, until time.Time) ([]calendar.Event, error) {
	for _, due := range p.Dues(p.Since) {
		at, err := due.Next(after)
		for ; err == nil && !at.IsZero() && !at.After(until); at, err = due.Next(at) {
			if len(out) == mostEvents {
				return out, fault.Invalidf("more than %d times are due: ask for fewer days, or one deployment", mostEvents)
			}
			uid := fmt.Sprintf("%d-%s-%s@andamio.example", p.Deployment, strings.ReplaceAll(due.Kind, " ", "-"), at.UTC().Format("20060102T150405Z"))
			out = append(out, calendar.Event{UID: uid, Summary: name + ": " + due.Kind, At: at})
		}
		if err != nil {
			return out, err
		}
	}
	return out, nil
}
