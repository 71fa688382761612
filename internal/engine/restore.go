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
	to, err := e.siteIDOf(s, r)
	if err != nil {
		return err
	}
	from, err := e.keptBy(s)
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

// keptBy is the site's id of the snapshot that a step restores.
func (e *Engine) keptBy(s *plan.Step) (string, error) {
	if s.Restoring.Provider != "" {
		return s.Restoring.Provider, nil
	}
	id, known := e.Attribute(s.Restoring.Snapshot, "site.id")
	if !known || id == "" {
		return "", site.Final(fmt.Errorf("the site's id of %s is not known", s.Restoring.Snapshot))
	}
	return id, nil
}
