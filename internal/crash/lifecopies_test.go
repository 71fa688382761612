package crash

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/service/moves"
	"andamio/internal/service/replicas"
)

// mayNot reports an error that says why something cannot be, in one of some words.
func mayNot(err error, why ...string) bool {
	return slices.ContainsFunc(why, func(w string) bool { return strings.Contains(err.Error(), w) })
}

// replicate makes copies of a deployment at a site like its disks, and remembers what its store had.
func (l *life) replicate(ctx context.Context, id int64) error {
	to := l.box.Endpoints[l.r.IntN(len(l.box.Endpoints))].Site
	l.done = append(l.done, "to "+to)
	o, err := l.a.Replicating(ctx, id, replicas.Request{Site: to, Barrier: l.r.IntN(2) == 0}, time.Now())
	if err != nil {
		if mayNot(err, "all of it is at") {
			return nil
		}
		return err
	}
	if err := l.carry(ctx, o); err != nil {
		return err
	}
	d, err := l.a.Deployment(ctx, id)
	if err != nil {
		return err
	}
	set := change.NewestCopy(d.Stand, to)
	if set == "" {
		return fmt.Errorf("there is no whole copy at %s", to)
	}
	if d.Stand.Plan.Resource(change.SnapshotID(change.CopyID(l.keeper(), to), set)) != nil {
		l.copies[fmt.Sprint(id, to)] = l.word[id]
	}
	return nil
}

// failOver goes on at a site with what copies hold, and commits that or goes back: the store has what its copy had.
func (l *life) failOver(ctx context.Context, id int64) error {
	all, err := l.a.Replicas(ctx, id)
	if err != nil || len(all) == 0 {
		return err
	}
	to := all[l.r.IntN(len(all))].Site
	draft, err := l.a.DraftFailOver(ctx, id, moves.FailOver{To: to})
	if err != nil {
		if mayNot(err, "no whole copy", "no copy of", "that is on is kept", "keeps no copy", "smaller by now", "no room", "no size") {
			return nil
		}
		return err
	}
	l.done = append(l.done, draft.Move.Name)
	moveID, runID, err := l.startMove(ctx, draft)
	if err != nil {
		return err
	}
	if slices.Contains(draft.Move.Waves[0].Instances, "store-host-1") {
		l.word[id] = l.copies[fmt.Sprint(id, to)]
	}
	return l.endMove(ctx, moveID, runID)
}

// dropCopies takes the copies at a site away.
func (l *life) dropCopies(ctx context.Context, id int64) error {
	all, err := l.a.Replicas(ctx, id)
	if err != nil || len(all) == 0 {
		return err
	}
	o, err := l.a.DroppingReplica(ctx, id, all[l.r.IntN(len(all))].Site)
	if err != nil {
		return err
	}
	return l.carry(ctx, o)
}
