package engine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// shellTimes is how many times the least deadline of a step a machine may take until it lets anybody in.
const shellTimes = 5

// starting reports that this run switched an instance on within a time.
func (e *Engine) starting(instance string, within time.Duration) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return slices.ContainsFunc(e.Plan.Steps, func(s plan.Step) bool {
		if s.Resource != instance || s.Op != op.Create && s.Op != op.Boot {
			return false
		}
		ended := e.state.Step(s.ID).Ended
		return !ended.IsZero() && time.Since(ended) < within
	})
}

// past reports that a context has ended, or that its deadline has passed and only its timer has not fired yet: a connection with the same
// deadline may say so first.
func past(ctx context.Context) bool {
	deadline, ok := ctx.Deadline()
	return ctx.Err() != nil || ok && !time.Now().Before(deadline)
}

// without leaves a reason's numbers out: the port that a call came from is another each time, and no other reason.
func without(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) {
			return -1
		}
		return r
	}, text)
}

// letIn waits until the instance that a step's script runs on lets us in. A site calls a machine active when its power is on; its system starts
// after that, and takes as long as it takes: that is not the script's time.
func (e *Engine) letIn(ctx context.Context, s *plan.Step) error {
	r := e.Plan.Resource(s.Resource)
	if s.Script == nil || r == nil {
		return nil
	}
	instance := cmp.Or(s.On, r.On, r.ID)
	most := cmp.Or(e.Patience.Shell, shellTimes*e.Patience.Least)
	if !e.starting(instance, most) {
		return nil // one that stands for long lets us in at once, or something is wrong with it
	}
	late := fmt.Errorf("%s let nobody in for %s", instance, most)
	ctx, cancel := context.WithTimeoutCause(ctx, most, late)
	defer cancel()
	wait, said := e.Patience.Wait, ""
	for {
		_, err := e.login(ctx, s, instance)
		if err == nil || site.ClassOf(err) == site.Refused || strings.Contains(err.Error(), "host key mismatch") {
			return nil // or what the step itself will say is wrong, and waiting does not mend
		}
		if past(ctx) {
			// what cut the last try off is our own deadline: why nobody was let in is what was said before it
			return fmt.Errorf("%w: %s", cmp.Or(context.Cause(ctx), late), cmp.Or(said, err.Error()))
		}
		if text := err.Error(); without(text) != without(said) {
			said = text
			if err := e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: "not let in yet: " + text}); err != nil {
				return err
			}
		}
		if err := pause(ctx, wait); err != nil {
			return fmt.Errorf("%w: %s", context.Cause(ctx), said)
		}
		wait = min(wait*2, max(e.Patience.Wait, time.Second))
	}
}
