package deployments

import (
	"context"
	"fmt"
	"strings"

	"andamio/internal/core/guard"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// Known are deployments as they were read last, for who looks at all of them again and again. The zero Known knows none; it is one reader's.
type Known struct{ of map[int64]knownAs }

// knownAs is a deployment as it was when its runs were so; nil if it has none.
type knownAs struct {
	stamp string
	d     *Deployment
}

// Refreshed lists all deployments, the newest first, and reads those anew alone to which something was done since, or is done now. Nobody changes them.
func (svc *Service) Refreshed(ctx context.Context, k *Known) ([]*Deployment, error) {
	all, err := svc.store.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	if all, err = acting.Seen(ctx, svc.desk, all, func(d store.Deployment) guard.Thing { return guard.Thing{Name: d.Name, Deployment: d.ID} }); err != nil {
		return nil, err
	}
	runs, err := svc.store.Runs(ctx)
	if err != nil {
		return nil, err
	}
	stamps, going := stampsOf(runs)
	next := make(map[int64]knownAs, len(all))
	var out []*Deployment
	for _, x := range all {
		now := knownAs{stamp: fmt.Sprintf("%s %v", stamps[x.ID], x)}
		if was, known := k.of[x.ID]; known && was.stamp == now.stamp && !going[x.ID] {
			now = was
		} else if now.d, err = svc.Whole(ctx, x); err != nil {
			return nil, err
		}
		next[x.ID] = now
		if len(now.d.Runs) > 0 {
			out = append(out, now.d)
		}
	}
	k.of = next
	return out, nil
}

// stampsOf are what changes of deployments whenever something is done to them, and those to which something is done now.
func stampsOf(runs []store.Run) (stamps map[int64]string, going map[int64]bool) {
	texts, going := map[int64]*strings.Builder{}, map[int64]bool{}
	for i := range runs {
		r := &runs[i]
		if texts[r.Deployment] == nil {
			texts[r.Deployment] = &strings.Builder{}
		}
		fmt.Fprintf(texts[r.Deployment], "%d %s %d %d %t %t;", r.ID, r.State, r.Epoch, r.Ended.UnixNano(), r.Void, r.Left)
		going[r.Deployment] = going[r.Deployment] || r.State == run.UnderWay || r.State == run.Planned
	}
	stamps = map[int64]string{}
	for id, b := range texts {
		stamps[id] = b.String()
	}
	return stamps, going
}
