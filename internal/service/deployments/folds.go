package deployments

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"andamio/internal/core/change"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// folds keeps what runs that have ended left standing: their journals do not change any more, and are long.
type folds struct {
	mu   sync.Mutex
	kept map[string]change.Standing
}

// mostFolds bounds what is kept; beyond that all is forgotten.
const mostFolds = 64

// foldKey names a list of runs that have all ended; "" if one goes on.
func foldKey(runs []store.Run) string {
	var out strings.Builder
	for _, r := range runs {
		if r.State == run.UnderWay || r.State == run.Planned || r.Ended.IsZero() {
			return ""
		}
		fmt.Fprintf(&out, "%d %d %t %d,", r.ID, r.Epoch, r.Void, r.Ended.UnixNano())
	}
	return out.String()
}

func (f *folds) get(key string) (change.Standing, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	s, ok := f.kept[key]
	if !ok || key == "" {
		return change.Standing{}, false
	}
	return ownCopy(s), true
}

// mostBack is how many of the last runs may have to be folded anew; with more, all are.
const mostBack = 16

// longest is what most of some runs left standing, as far as that is kept, and how many those are.
func (f *folds) longest(runs []store.Run) (change.Standing, int) {
	for n := len(runs) - 1; n > 0 && n >= len(runs)-mostBack; n-- {
		if kept, ok := f.get(foldKey(runs[:n])); ok {
			return kept, n
		}
	}
	return change.Standing{}, 0
}

func (f *folds) keep(key string, s change.Standing) {
	if key == "" || s.Plan == nil {
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.kept == nil || len(f.kept) >= mostFolds {
		f.kept = map[string]change.Standing{}
	}
	f.kept[key] = ownCopy(s)
}

// ownCopy is a copy whose plan may be arranged anew.
func ownCopy(s change.Standing) change.Standing {
	p := *s.Plan
	p.Resources, p.Steps, p.Sites = slices.Clone(p.Resources), slices.Clone(p.Steps), slices.Clone(p.Sites)
	s.Plan = plan.Reindexed(&p)
	return s
}

// Standing is what stands of a deployment, by the journals of its runs.
func (svc *Service) Standing(ctx context.Context, deployment int64) (change.Standing, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return change.Standing{}, err
	}
	runs, err := svc.store.RunsOf(ctx, deployment)
	if err != nil {
		return change.Standing{}, err
	}
	return svc.Fold(ctx, runs)
}

// Fold works out what runs left standing, one after another.
func (svc *Service) Fold(ctx context.Context, runs []store.Run) (change.Standing, error) {
	key := foldKey(runs)
	if kept, ok := svc.cache.folds.get(key); ok {
		return kept, nil
	}
	out, done := svc.cache.folds.longest(runs)
	out, err := svc.foldOn(ctx, out, runs[done:])
	if err == nil {
		svc.cache.folds.keep(key, out)
	}
	return out, err
}

// foldOn works out what runs left standing, over what stood before them; a plan of nil stands for nothing.
func (svc *Service) foldOn(ctx context.Context, out change.Standing, runs []store.Run) (change.Standing, error) {
	for _, r := range runs {
		if r.Void {
			continue
		}
		s, err := svc.inside().Replay(ctx, r.ID)
		if err != nil {
			return out, err
		}
		if out.Plan == nil {
			out = change.Nothing(s.Plan)
		}
		if out, err = change.After(out, s); err != nil {
			return out, fmt.Errorf("run %d: %w", r.ID, err)
		}
	}
	return out, nil
}
