package engine

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// restore has a disk hold what a snapshot keeps. The site refuses it while its machine is on.
func (e *Engine) restore(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	from, to, err := e.fromSnapshot(s, r)
	if err != nil {
		return err
	}
	keeps, can := site.Can[site.Snapshotter](ctx, e.Sites[s.Site])
	if !can {
		return site.Final(fmt.Errorf("%s keeps no snapshots", s.Site))
	}
	if err := e.call(ctx, s, func() error { return keeps.Restore(ctx, from, to) }); err != nil {
		return err
	}
	return e.record(run.Event{Kind: run.Learned, Resource: r.ID, Attributes: map[string]string{change.AttrRestored: s.Restoring.Set, change.AttrRestoredAt: time.Now().UTC().Format(time.RFC3339Nano)}})
}

// fromSnapshot are the site's ids of the snapshot that a step restores, and of what it restores.
func (e *Engine) fromSnapshot(s *plan.Step, r *plan.Resource) (from, to string, err error) {
	if to, err = e.siteIDOf(s, r); err != nil || s.Restoring.Provider != "" {
		return s.Restoring.Provider, to, err
	}
	from, known := e.Attribute(s.Restoring.Snapshot, "site.id")
	if !known || from == "" {
		return "", to, site.Final(fmt.Errorf("the site's id of %s is not known", s.Restoring.Snapshot))
	}
	return from, to, nil
}
