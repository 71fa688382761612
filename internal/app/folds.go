package app

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"andamio/internal/core/change"
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
