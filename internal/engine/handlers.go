package engine

import (
	"context"
	"errors"
	"fmt"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/reach"
	"andamio/internal/site"
)

// handler performs a step on a resource and returns when its condition holds, or it cannot. Whatever a run that broke off may have
// done of it is found, or doing it again does no harm (see [op.Repeat]).
type handler func(e *Engine, ctx context.Context, s *plan.Step, r *plan.Resource) error

// handlers has one for every operation, each in a file of its own.
var handlers = map[op.Op]handler{
	op.Create: (*Engine).create, op.Attach: (*Engine).build, op.Plug: (*Engine).build,
	op.Configure: (*Engine).script, op.Start: (*Engine).script, op.Connect: (*Engine).script, op.Call: (*Engine).script, op.Do: (*Engine).script,
	op.Stop: (*Engine).script, op.Delete: (*Engine).script, op.Disconnect: (*Engine).script,
	op.Check: (*Engine).probe, op.Answer: (*Engine).probe,
	op.Require: (*Engine).require, op.Act: (*Engine).act,
	op.Remove: (*Engine).remove, op.Detach: (*Engine).remove, op.Unplug: (*Engine).remove, op.Sweep: (*Engine).sweep,
	op.Halt: (*Engine).power, op.Boot: (*Engine).power, op.Alter: (*Engine).alter,
	op.Accept: (*Engine).accept, op.Lose: (*Engine).lose, op.Mend: (*Engine).mend,
	op.Replicate: (*Engine).replicate, op.Follow: (*Engine).follow, op.Finish: (*Engine).finish, op.Hold: (*Engine).hold,
	op.Restore: (*Engine).restore, op.Recall: (*Engine).recall, op.Renew: (*Engine).renew,
	op.Consolidate: (*Engine).consolidate, op.Fill: (*Engine).fill,
	op.Suspend: (*Engine).suspend, op.Release: (*Engine).release, op.Reclaim: (*Engine).reclaim,
	op.Name: (*Engine).name, op.Unname: (*Engine).name,
	op.Balance: (*Engine).balance, op.Enroll: (*Engine).balance, op.Dismiss: (*Engine).balance,
	op.Carry: nothing, op.Clear: nothing, op.Barrier: nothing, op.Take: nothing,
}

// perform has the handler of a step's operation do it.
func (e *Engine) perform(ctx context.Context, s *plan.Step) error {
	do := handlers[s.Op]
	if do == nil {
		return site.Final(fmt.Errorf("%s is to %q, which nobody here can do", s.ID, s.Op))
	}
	return do(e, reach.At(ctx, s.Site), s, e.Plan.Resource(s.Resource))
}

// nothing is to be done by a step that others wait for, or that only has note taken of what is so.
func nothing(*Engine, context.Context, *plan.Step, *plan.Resource) error { return nil }

// require demands that a condition holds.
func (e *Engine) require(_ context.Context, s *plan.Step, _ *plan.Resource) error {
	if holds, why := e.holds(*s.When, s.Resource); !holds {
		return errors.New(why)
	}
	return nil
}
