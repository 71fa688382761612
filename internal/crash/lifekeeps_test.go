package crash

import (
	"context"
	"strings"
	"time"

	"andamio/internal/core/plan/op"
	"andamio/internal/service/deployments"
	"andamio/internal/service/snapshots"
)

// keep takes snapshots of a deployment, or of one of its tiers, and remembers what its store had.
func (l *life) keep(ctx context.Context, id int64) error {
	w := snapshots.TakeRequest{Barrier: l.r.IntN(2) == 0}
	if l.r.IntN(2) == 0 {
		w.Of = []string{[]string{"store-host", "front-host"}[l.r.IntN(2)]}
	}
	o, err := l.a.Taking(ctx, id, w, time.Now())
	if err != nil {
		return err
	}
	if err := l.carry(ctx, o); err != nil {
		return err
	}
	return l.remember(ctx, id, l.word[id])
}

// remember notes of sets that were taken since what the store had then, where its disk is among them.
func (l *life) remember(ctx context.Context, id int64, word string) error {
	all, err := l.a.Snapshots(ctx, id)
	if err != nil {
		return err
	}
	if l.kept[id] == nil {
		l.kept[id] = map[string]string{}
	}
	for _, s := range all {
		if _, known := l.kept[id][s.Name]; known {
			continue
		}
		l.kept[id][s.Name] = ""
		for _, d := range s.Disks {
			if d.Of == l.keeper() {
				l.kept[id][s.Name] = word
			}
		}
	}
	return nil
}

// sets are the names of what is kept of a deployment.
func (l *life) sets(ctx context.Context, id int64) ([]string, error) {
	all, err := l.a.Snapshots(ctx, id)
	var out []string
	for _, s := range all {
		out = append(out, s.Name)
	}
	return out, err
}

// restore has a deployment hold again what it held, with what it holds now kept before or not.
func (l *life) restore(ctx context.Context, id int64) error {
	all, err := l.sets(ctx, id)
	if err != nil || len(all) == 0 {
		return err
	}
	set := all[l.r.IntN(len(all))]
	o, err := l.a.Restoring(ctx, id, snapshots.RestoreRequest{Set: set, Discard: l.r.IntN(2) == 0}, time.Now())
	if err != nil {
		for _, why := range []string{"does not stand any more", "by now", "smaller than", "no whole snapshot", "is not any more"} {
			if strings.Contains(err.Error(), why) {
				return nil
			}
		}
		return err
	}
	return l.carryBack(ctx, id, o)
}

// drop takes away what is kept of a deployment.
func (l *life) drop(ctx context.Context, id int64) error {
	all, err := l.sets(ctx, id)
	if err != nil || len(all) == 0 {
		return err
	}
	o, err := l.a.DroppingSnapshot(ctx, id, all[l.r.IntN(len(all))])
	if err != nil {
		return err
	}
	return l.carry(ctx, o)
}

// carryBack carries out an order that restores something, or may: the store has then what was kept, and what it had is remembered if that is kept.
func (l *life) carryBack(ctx context.Context, id int64, o deployments.Order) error {
	was := l.word[id]
	if s := o.Plan.Step(op.Restore.On(l.keeper())); s != nil {
		l.word[id] = l.kept[id][s.Restoring.Set]
	}
	if err := l.carry(ctx, o); err != nil {
		return err
	}
	return l.remember(ctx, id, was)
}
