package promises

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/promise"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// WatchPromises looks at what is promised without a time of its own: at machines that are raised again by themselves, and at volumes that are to be
// bounded. What is to be done about that is due then.
func (svc *Service) WatchPromises(ctx context.Context, now time.Time) error {
	if err := svc.desk.Read("what is promised"); err != nil {
		return err
	}
	all, err := svc.store.Promises(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for i := range all {
		switch p := &all[i]; {
		case ctx.Err() != nil:
		case p.Kind == promise.Recovered:
			errs = append(errs, svc.watch(ctx, p, now))
		case p.Kind == promise.Limited:
			errs = append(errs, svc.watchLimits(ctx, p, now))
		}
	}
	return errors.Join(errs...)
}

// lookFor bounds how long looking at one deployment takes.
const lookFor = 30 * time.Second

// watch looks at the machines of one deployment. What somebody works on is left to them.
func (svc *Service) watch(ctx context.Context, was *promise.Promise, now time.Time) error {
	terms, err := svc.look(ctx, was, now)
	if terms == nil || err != nil {
		return err
	}
	if err := svc.keepTerms(ctx, was, terms, now); fault.CodeOf(err) != fault.Conflict { // else theirs counts, and is looked at the next time
		return err
	}
	return nil
}

// look is what is promised once the machines were looked at; nil if nothing is known, or all is as it was.
func (svc *Service) look(ctx context.Context, was *promise.Promise, now time.Time) (*promise.RecoveredTerms, error) {
	ctx, cancel := context.WithTimeout(ctx, lookFor)
	defer cancel()
	seen, err := svc.At(svc.desk.Inside()).deployments.Sights(ctx, was.Deployment)
	if fault.CodeOf(err) == fault.Conflict || fault.CodeOf(err) == fault.NotFound {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("deployment %d: %w", was.Deployment, err)
	}
	terms := *was.Recovered
	if !terms.Look(seen, now) {
		return nil, nil
	}
	return &terms, nil
}

// keepTerms keeps what is known of machines that are down; that somebody has changed what is promised meanwhile is a conflict.
func (svc *Service) keepTerms(ctx context.Context, was *promise.Promise, terms *promise.RecoveredTerms, now time.Time) error {
	then := *was
	then.Recovered, then.Since = terms, now.UTC()
	err := svc.store.SetPromise(ctx, then, was)
	if errors.Is(err, store.ErrTaken) {
		return fault.Conflictf("what is promised of it was changed meanwhile")
	}
	return err
}

// recover raises what is down by now, and was for long enough; what is well again needs nothing.
func (svc *Service) recover(ctx context.Context, deployment int64, now time.Time) (string, error) {
	was, err := svc.promised(ctx, deployment, promise.Recovered)
	if err != nil {
		return "", err
	}
	seen, err := svc.deployments.Sights(ctx, deployment)
	if err != nil {
		return "", err
	}
	terms := *was.Recovered
	terms.Look(seen, now)
	fell := terms.Picks(now)
	terms.At = time.Time{}
	if len(fell) == 0 {
		return notDown(&terms), svc.keepTerms(ctx, &was, &terms, now)
	}
	if err := allowed(&terms, fell); err != nil {
		return "", errors.Join(err, svc.keepTerms(ctx, &was, &terms, now))
	}
	tried := terms.Try(now)
	if err := svc.keepTerms(ctx, &was, &terms, now); err != nil || tried != nil { // noted before it is done: it is never done more often
		return "", errors.Join(tried, err)
	}
	o, err := svc.deployments.RaisingAgain(ctx, deployment, fell)
	if err != nil {
		return "", err
	}
	o.Bound = bound(fell)
	note, err := svc.done(ctx, o)
	if err != nil {
		return note, fmt.Errorf("%s: %w", saying(fell), err)
	}
	return note + ": " + saying(fell), nil
}

// notDown says why nothing was done.
func notDown(t *promise.RecoveredTerms) string {
	if len(t.Down) == 0 {
		return "all came back by itself"
	}
	return "nobody can say now whether it is down: its site does not answer, or it has been down for less"
}

// allowed says that what is gone is not built again by itself where that was not said.
func allowed(t *promise.RecoveredTerms, fell []promise.Fall) error {
	i := slices.IndexFunc(fell, func(f promise.Fall) bool { return f.How == promise.FellGone })
	if i < 0 || t.Rebuild {
		return nil
	}
	return fault.Refusedf("%s is gone from its site, and is not built again by itself: reconcile builds it again, or andamio recovery --rebuild has that be done", fell[i].Machine)
}

// bound is what bounds raising machines again. Switching on what is to be on changes nothing that was wanted, and nothing holds it.
func bound(fell []promise.Fall) deployments.Bound {
	if slices.ContainsFunc(fell, func(f promise.Fall) bool { return f.How != promise.FellOff }) {
		return deployments.BoundByBlackouts
	}
	return deployments.BoundByNothing
}

// saying says what was down, and how.
func saying(fell []promise.Fall) string {
	var out []string
	for _, f := range fell {
		out = append(out, f.Machine+" was "+string(f.How))
	}
	return strings.Join(out, ", ")
}
