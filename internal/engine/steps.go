package engine

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// do performs a step and returns when its condition holds, or it cannot.
func (e *Engine) do(ctx context.Context, s *plan.Step) error {
	for {
		err := e.once(ctx, s)
		if err == nil || !e.cutOff(ctx, s, err) {
			return err
		}
		if err := e.awaitWay(ctx, s, err); err != nil {
			return err
		}
	}
}

// once performs a step until its condition holds, or it cannot, or its time is over.
func (e *Engine) once(ctx context.Context, s *plan.Step) error {
	if err := e.letIn(ctx, s); err != nil {
		return err
	}
	d := e.deadline(s)
	ctx, cancel := context.WithTimeoutCause(ctx, d, fmt.Errorf("not done after %s", d))
	defer cancel()
	err := e.perform(ctx, s)
	if err != nil && ctx.Err() != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, ctx.Err()) {
			if _, waited, said := strings.Cut(err.Error(), ctx.Err().Error()+": "); said { // for what it waited until then
				return fmt.Errorf("%w: %s", context.Cause(ctx), waited)
			}
			return context.Cause(ctx)
		}
		return fmt.Errorf("%w: %w", context.Cause(ctx), err)
	}
	return err
}

// deadline is how long a step may take: as its script says, or many times what is expected of it, and never less than
// the least.
func (e *Engine) deadline(s *plan.Step) time.Duration {
	r := e.Plan.Resource(s.Resource)
	if s.Copying != nil || s.Filling != nil || s.Op == op.Create && r != nil && r.Kind == kinds.Snapshot { // sites may copy whole disks for it
		return copyingDeadline
	}
	if s.Script != nil && s.Script.Timeout > 0 {
		return time.Duration(s.Script.Timeout * float64(time.Second))
	}
	return max(e.Patience.Least, time.Duration(s.Seconds*e.Patience.Times*float64(time.Second)))
}
