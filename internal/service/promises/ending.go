package promises

import (
	"context"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/snapshots"
)

// EndSnapshot has a set of snapshots be dropped at a time; zero has it be kept for as long as nobody drops it. It returns until when others have.
func (svc *Service) EndSnapshot(ctx context.Context, deployment int64, set string, until, now time.Time) (out promise.EndsTerms, err error) {
	on, err := svc.thing(ctx, deployment)
	if err != nil {
		return out, err
	}
	if err := svc.desk.Allow(ctx, guard.SetPromise, on); err != nil {
		return out, err
	}
	sets, err := svc.snapshots.Snapshots(ctx, deployment)
	if err != nil {
		return out, err
	}
	i := slices.IndexFunc(sets, func(s snapshots.Set) bool { return s.Name == set })
	switch {
	case i < 0:
		return out, fault.NotFoundf("there is no snapshot %q of %s", set, on.Name)
	case sets[i].ByRule():
		return out, fault.Refusedf("%s was taken by rule, which drops it in its time", set)
	case !until.IsZero() && !until.After(now):
		return out, fault.Invalidf("%s is over: andamio snapshot drop drops it now", until.Format(time.RFC3339))
	}
	was, err := svc.ends(ctx, deployment)
	if err != nil {
		return out, err
	}
	if was != nil {
		out = *was.Ends
	}
	out = out.With(set, until)
	saying := "for as long as nobody drops it"
	if !until.IsZero() {
		saying = "until " + until.UTC().Format(time.RFC3339)
	}
	return out, svc.desk.Do(ctx, guard.SetPromise, on, func() error { return svc.setEnds(ctx, deployment, was, out, svc.desk.Actor, now) }, acting.Saying("%s is kept %s", set, saying))
}

// ends is what has sets of a deployment end; nil if nothing does.
func (svc *Service) ends(ctx context.Context, deployment int64) (*promise.Promise, error) {
	p, err := svc.promised(ctx, deployment, promise.Ends)
	if fault.CodeOf(err) == fault.NotFound {
		return nil, nil
	}
	return &p, err
}

// setEnds keeps until when sets are kept, unless that was changed meanwhile.
func (svc *Service) setEnds(ctx context.Context, deployment int64, was *promise.Promise, terms promise.EndsTerms, by guard.Actor, now time.Time) error {
	if len(terms.Sets) == 0 {
		if was == nil {
			return nil
		}
		return svc.store.DropPromise(ctx, deployment, promise.Ends, was)
	}
	if was == nil {
		was = &promise.Promise{} // there is none
	}
	p := promise.Promise{Deployment: deployment, Kind: promise.Ends, By: by, Since: now.UTC(), Ends: &terms}
	if err := p.Check(now); err != nil {
		return fault.Default(fault.Invalid, err)
	}
	return svc.store.SetPromise(ctx, p, was)
}

// dropEnded drops the sets whose time is over. One that was dropped before ends no more.
func (svc *Service) dropEnded(ctx context.Context, deployment int64, now time.Time) (string, error) {
	was, err := svc.ends(ctx, deployment)
	if err != nil || was == nil {
		return "nothing has an end any more", err
	}
	terms, note := *was.Ends, "it was dropped before"
	for _, set := range was.Ends.Over(now) {
		o, err := svc.snapshots.DroppingSnapshot(ctx, deployment, set)
		switch {
		case fault.CodeOf(err) == fault.NotFound:
		case err != nil:
			return "", err
		default:
			o.Bound = deployments.BoundByWindows
			last, err := svc.done(ctx, o)
			if err != nil {
				return "", fmt.Errorf("%s: %w", set, err)
			}
			note = last + " dropped " + set
		}
		terms = terms.With(set, time.Time{})
	}
	return note, svc.setEnds(ctx, deployment, was, terms, was.By, now)
}
