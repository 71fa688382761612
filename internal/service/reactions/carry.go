package reactions

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/placement"
	"andamio/internal/core/promise"
	"andamio/internal/core/react"
	"andamio/internal/core/window"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/runs"
	"andamio/internal/service/templates"
)

// heldFor is for how long what a blackout or a window holds is not worked out anew.
const heldFor = time.Minute

// carry carries out what was decided. It is noted before it is done, so that it is never done more often than may be.
func (svc *Service) carry(ctx context.Context, r *round, d *deployments.Deployment, x *react.Reaction, st *react.State, decided *react.Decision) error {
	k := key{x.Name, d.ID}
	if svc.memory.waits[d.ID].After(r.now) {
		return nil
	}
	before := *st
	st.Note(decided, r.now)
	if err := svc.keep(ctx, r, k, *st); err != nil {
		return err
	}
	by, err := svc.reactor(ctx)
	if err != nil {
		return err
	}
	what, err := svc.at(by).act(ctx, d, x, decided)
	var held *window.Held
	switch {
	case errors.As(err, &held): // nothing was done
		*st = before
		st.Says = decided.Why + ": " + held.Error()
		if svc.memory.waits == nil {
			svc.memory.waits = map[int64]time.Time{}
		}
		svc.memory.waits[d.ID] = r.now.Add(heldFor)
	case err != nil:
		st.Failed(err)
		svc.log.Warn("a reaction could not be carried out", "reaction", x.Name, "deployment", d.Name, "why", decided.Why, "err", err)
	default:
		st.Says = what + ": " + decided.Why
		svc.log.Info("reaction", "reaction", x.Name, "deployment", d.Name, "does", what, "why", decided.Why)
	}
	return svc.keep(ctx, r, k, *st)
}

// reactor is who set the reactions; whoever serves where somebody wrote the file by hand.
func (svc *Service) reactor(ctx context.Context) (guard.Actor, error) {
	by, err := svc.store.Reactor(ctx, svc.workspace.ReactionsDigest())
	if by.Name == "" {
		by = svc.desk.Actor
	}
	return by.By(guard.Rule), err
}

// at is the service with all below it for somebody else.
func (svc *Service) at(by guard.Actor) *Service {
	desk := svc.desk.As(by)
	b := svc.At(desk)
	b.over.Runs, b.over.Moves = svc.over.Runs.At(desk), svc.over.Moves.At(desk)
	return b
}

// act does what was decided, or proposes it, and says which run or proposal it is.
func (svc *Service) act(ctx context.Context, d *deployments.Deployment, x *react.Reaction, decided *react.Decision) (string, error) {
	if decided.Do == react.Leaving {
		return svc.leave(ctx, d, x, decided)
	}
	o, err := svc.order(ctx, d, decided)
	if err != nil {
		return "", err
	}
	if len(o.Plan.Steps) == 0 {
		return "", fault.Conflictf("there is nothing to be done about it")
	}
	if err := affords(x, d, &o); err != nil {
		return "", err
	}
	o.Why = fmt.Sprintf("reaction %s: %s", x.Name, decided.Why)
	if decided.Mode == react.Propose {
		p, err := svc.over.Runs.Propose(ctx, o, runs.ProposalHolds)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("proposal %d", p.ID), nil
	}
	id, err := svc.over.Runs.Begin(ctx, o)
	return fmt.Sprintf("run %d", id), err
}

// order is what carries a decision out.
func (svc *Service) order(ctx context.Context, d *deployments.Deployment, decided *react.Decision) (deployments.Order, error) {
	of := svc.over.Deployments
	switch decided.Do {
	case react.Raising:
		o, err := of.RaisingAgain(ctx, d.ID, decided.Falls)
		o.Bound = deployments.BoundByBlackouts
		if !slices.ContainsFunc(decided.Falls, func(f promise.Fall) bool { return f.How != promise.FellOff }) { // switching on what is to be on changes nothing that was wanted
			o.Bound = deployments.BoundByNothing
		}
		return o, err
	case react.Elsewhere:
		w := templates.Choices{Forbids: map[string][]string{}}
		for _, m := range decided.Machines {
			w.Forbids[m] = decided.Not
		}
		o, err := of.Rebuilding(ctx, d.ID, decided.Machines, w, "build "+strings.Join(decided.Machines, ", ")+" elsewhere")
		o.Bound = deployments.BoundByBlackouts
		return o, err
	case react.Spreading:
		w := templates.Choices{Pins: map[string]placement.Spot{decided.Machines[0]: {Site: decided.Site, Zone: decided.Zone, Host: decided.Host}}}
		return of.Rebuilding(ctx, d.ID, decided.Machines, w, fmt.Sprintf("build %s on host %s", decided.Machines[0], decided.Host))
	case react.Scaling:
		return of.Scaling(ctx, d.ID, decided.Tier, decided.Count)
	}
	return deployments.Order{}, fault.Refusedf("a reaction does not %s", decided.Do)
}

// affords refuses what would cost more than a reaction may spend.
func affords(x *react.Reaction, d *deployments.Deployment, o *deployments.Order) error {
	if o.Wanted == nil {
		return nil
	}
	if why := x.Affords(d.CostPerHour(), o.Wanted.CostPerHour); why != "" {
		return fault.Refusedf("%s", why)
	}
	return nil
}

// leave moves what a deployment has at a site to others, or proposes it.
func (svc *Service) leave(ctx context.Context, d *deployments.Deployment, x *react.Reaction, decided *react.Decision) (string, error) {
	draft, err := svc.leaving(ctx, d, decided)
	if err != nil {
		return "", err
	}
	if err := affords(x, d, &draft.Order); err != nil {
		return "", err
	}
	draft.Order.Why = fmt.Sprintf("reaction %s: %s", x.Name, decided.Why)
	if decided.Mode == react.Propose {
		p, err := svc.over.Moves.ProposeMove(ctx, draft, runs.ProposalHolds)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("proposal %d", p.ID), nil
	}
	move, id, err := svc.over.Moves.StartMove(ctx, draft, nil)
	return fmt.Sprintf("move %d, run %d", move, id), err
}

// leaving is the move of all that is at a site, or where not all finds a place elsewhere of the first tier that does.
func (svc *Service) leaving(ctx context.Context, d *deployments.Deployment, decided *react.Decision) (*moves.Draft, error) {
	var nodes []string
	for _, m := range decided.Machines {
		if node := d.Stand.Plan.Resource(m).Node; !slices.Contains(nodes, node) {
			nodes = append(nodes, node)
		}
	}
	draft := func(what []string) (*moves.Draft, error) {
		return svc.over.Moves.DraftMove(ctx, d.ID, moves.Request{What: what, Not: decided.Not, Mode: change.Warm, AtOnce: true})
	}
	whole, err := draft(decided.Machines)
	if err == nil || len(nodes) == 1 {
		return whole, err
	}
	for _, node := range nodes {
		of := slices.DeleteFunc(slices.Clone(decided.Machines), func(m string) bool { return d.Stand.Plan.Resource(m).Node != node })
		if part, no := draft(of); no == nil {
			return part, nil
		}
	}
	return nil, err
}
