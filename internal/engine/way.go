package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// Ways says of sites that are reached through others, workers in closed networks, whether one of those is there.
type Ways interface {
	// Absent reports that a site is reached through others, and none of them is there at this moment.
	Absent(ctx context.Context, site string) bool
	// Whom says who they are, and for how long a step waits for one.
	Whom(site string) (whom string, patience time.Duration)
}

// cutOff reports that a step failed since nobody is there through whom its site is reached: what the site refused is not that.
func (e *Engine) cutOff(ctx context.Context, s *plan.Step, err error) bool {
	if e.Ways == nil || s.Site == "" || ctx.Err() != nil {
		return false
	}
	class := site.ClassOf(err)
	return (class == site.Transient || errors.Is(err, context.DeadlineExceeded)) && e.Ways.Absent(ctx, s.Site)
}

// lookEvery is how often it is looked whether somebody is there again.
const lookEvery = time.Second

// awaitWay waits until somebody is there through whom a step's site is reached, as long as the site's rule says; none of that is the step's own time, which is taken up again like one that a worker left under way.
func (e *Engine) awaitWay(ctx context.Context, s *plan.Step, failed error) error {
	whom, patience := e.Ways.Whom(s.Site)
	if patience == 0 {
		return failed
	}
	text := fmt.Sprintf("no worker of the pool %s is there, through whom %s is reached; the step waits %s for one", whom, s.Site, patience)
	if err := e.record(run.Event{Kind: run.StepAwaits, Step: s.ID, Resource: s.Resource, Text: text}); err != nil {
		return err
	}
	for until := time.Now().Add(patience); e.Ways.Absent(ctx, s.Site); {
		left := time.Until(until)
		if left <= 0 {
			return fmt.Errorf("no worker of the pool %s was there for %s, through whom %s is reached: let one join (andamio work --join), and retry the step; it failed with: %w", whom, patience, s.Site, failed)
		}
		if err := e.gates[s.Site].pause(ctx, min(left, lookEvery, e.Patience.Most)); err != nil {
			return err
		}
	}
	return e.record(run.Event{Kind: run.StepAwaits, Good: true, Step: s.ID, Resource: s.Resource, Text: "a worker of the pool " + whom + " is there; the step is taken up again"})
}
