package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/site"
)

// do performs a step and returns when its condition holds, or it cannot.
func (e *Engine) do(ctx context.Context, s *plan.Step) error {
	d := e.deadline(s)
	ctx, cancel := context.WithTimeoutCause(ctx, d, fmt.Errorf("not done after %s", d))
	defer cancel()
	err := e.perform(ctx, s)
	if err != nil && ctx.Err() != nil && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, ctx.Err()) {
			return context.Cause(ctx)
		}
		return fmt.Errorf("%w: %w", context.Cause(ctx), err)
	}
	return err
}

func (e *Engine) perform(ctx context.Context, s *plan.Step) error {
	r := e.Plan.Resource(s.Resource)
	switch s.Op {
	case op.Require:
		if holds, why := e.holds(*s.When, s.Resource); !holds {
			return errors.New(why)
		}
		return nil
	case op.Act:
		return e.act(ctx, s)
	case op.Remove, op.Detach, op.Unplug:
		return e.remove(ctx, s, r)
	case op.Halt, op.Boot:
		return e.power(ctx, s, r)
	case op.Alter:
		return e.alter(ctx, s, r)
	case op.Sweep:
		return e.sweep(ctx, s)
	case op.Accept:
		return e.accept(ctx, s, r)
	case op.Lose:
		return e.lose(ctx, s, r)
	case op.Mend:
		return e.mend(ctx, s, r)
	case op.Replicate, op.Follow, op.Finish, op.Hold, op.Consolidate:
		return e.copies(ctx, s, r)
	case op.Fill:
		return e.fill(ctx, s)
	case op.Suspend, op.Release, op.Reclaim:
		return e.detach(ctx, s, r)
	case op.Carry, op.Clear, op.Settle, op.Take:
		return nil
	case op.Name, op.Unname:
		return e.name(ctx, s)
	}
	switch {
	case !s.Op.Known():
	case s.Script != nil:
		return e.script(ctx, s, r)
	case s.Check.Kind == plan.CheckTCP || s.Check.Kind == plan.CheckHTTP:
		return e.probe(ctx, s)
	case s.Op == op.Create || s.Op == op.Attach || s.Op == op.Plug:
		return e.build(ctx, s, r)
	}
	return site.Final(fmt.Errorf("%s is to %q, which nobody here can do", s.ID, s.Op))
}

// deadline is how long a step may take: as its script says, or many times what is expected of it, and never less than
// the least.
func (e *Engine) deadline(s *plan.Step) time.Duration {
	if s.Copying != nil || s.Filling != nil {
		return copyingDeadline
	}
	if s.Script != nil && s.Script.Timeout > 0 {
		return time.Duration(s.Script.Timeout * float64(time.Second))
	}
	return max(e.Patience.Least, time.Duration(s.Seconds*e.Patience.Times*float64(time.Second)))
}
