package move

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/change"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/core/takeover"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/reconcile"
)

// Machines that nobody deployed here are rows like others, of a deployment that is none (its number is 0): they are taken over when their move is
// begun, and arrive as one.

// nobodys are those machines as a deployment; false if there are none.
func nobodys(p *plan.Plan) (deployments.Deployment, bool) {
	var d deployments.Deployment
	if p == nil {
		return d, false
	}
	stand, err := change.Done(change.Nothing(p), p)
	if err != nil {
		return d, false
	}
	d.Name, d.Stand = "nobody's", stand
	d.Stand.Plan.Known = p.Known
	return d, true
}

// nobodysTitle says above those machines what becomes of them.
func nobodysTitle(d *deployments.Deployment) string {
	if len(takeover.Machines(d.Stand.Plan)) < reconcile.MostNobodys {
		return d.Name + ": taken over first"
	}
	return fmt.Sprintf("%s, %d of them: taken over first", d.Name, reconcile.MostNobodys)
}

// taking asks for machines of nobody's to be taken over, by the records of their rows.
func taking(d *deployments.Deployment, ids []string) reconcile.TakeOverRequest {
	var out reconcile.TakeOverRequest
	for _, id := range ids {
		out.Records = append(out.Records, d.Stand.Plan.Resource(id).Site+"/"+d.Stand.Plan.Known[id]["site.id"])
	}
	return out
}

// draftTaken works out the move of machines that would be taken over.
func (v *View) draftTaken(take reconcile.TakeOverRequest, w moves.Request) (*moves.Draft, error) {
	order, err := v.app.TakingOver(v.ctx, take)
	if err != nil {
		return nil, err
	}
	w.What = takeover.Machines(order.Plan)
	return v.app.DraftTaken(v.ctx, order, w)
}

// takeAndStart takes machines over, waits until that is done, and begins their move.
func (v *View) takeAndStart(take reconcile.TakeOverRequest, w moves.Request, given map[string]string) tea.Cmd {
	return func() tea.Msg {
		order, err := v.app.TakingOver(v.ctx, take)
		if err != nil {
			return done{err: err}
		}
		deployment, err := v.takenOver(order)
		if err != nil {
			return done{err: err}
		}
		w.What = takeover.Machines(order.Plan)
		draft, err := v.app.DraftMove(v.ctx, deployment, w)
		if err != nil {
			return done{err: err}
		}
		id, _, err := v.app.StartMove(v.ctx, draft, given)
		return done{fmt.Sprintf("%s is a deployment now, and move %d has begun", order.Plan.Name, id), err, true}
	}
}

// takenOver carries out the order that takes machines over, and returns what they are then.
func (v *View) takenOver(order deployments.Order) (int64, error) {
	id, err := v.app.Begin(v.ctx, order)
	if err != nil {
		return 0, err
	}
	r, err := v.app.Run(v.ctx, id)
	if err != nil {
		return 0, err
	}
	state := run.New(order.Plan)
	for b := range v.app.Watch(v.ctx, id, 0) {
		if b.Err != nil {
			return 0, b.Err
		}
		for _, e := range b.Events {
			state.Apply(e)
		}
	}
	if state.Status != run.Standing {
		return 0, fmt.Errorf("%s could not be taken over: run %d says why", order.Plan.Name, id)
	}
	return r.Deployment, nil
}
