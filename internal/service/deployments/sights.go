package deployments

import (
	"context"
	"fmt"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// Sights looks at the machines of a deployment that are to be on: what their sites say, and whether they answer. While a run works on it, a move of it is
// open, or a run of it left it half done, that is somebody's who sees to it: a conflict.
func (svc *Service) Sights(ctx context.Context, deployment int64) ([]promise.Sight, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, err
	}
	in := svc.inside()
	d, err := in.Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	if d.State() != run.Standing {
		return nil, fault.Conflictf("%s is %s: somebody sees to it", d.Name, d.State())
	}
	if err := svc.moving.SettledBut(ctx, deployment, 0); err != nil {
		return nil, err
	}
	s, err := in.Picture(ctx, d)
	if err != nil {
		return nil, err
	}
	seen, err := in.Look(ctx, s)
	if err != nil {
		return nil, err
	}
	return sights(s, &seen), nil
}

// sights are the machines that are to be on as readings have them.
func sights(s *run.State, seen *Readings) []promise.Sight {
	asked, answered, lowest := map[string]bool{}, map[string]bool{}, map[string]int{}
	for id, a := range seen.Answers {
		on, level := machineOf(s.Plan, id), s.Plan.Resource(id).Level
		if !asked[on] || level < lowest[on] {
			lowest[on] = level
		}
		asked[on], answered[on] = true, answered[on] || a.Good
	}
	var out []promise.Sight
	for i := range s.Resources {
		r := &s.Resources[i]
		if r.Kind != kinds.Instance || r.Off {
			continue
		}
		_, said := seen.Sites[r.ID]
		state, has := seen.states[r.ID]
		out = append(out, promise.Sight{Machine: r.ID, Level: max(r.Level, lowest[r.ID]), Asked: said && seen.Failed[r.Site] == "", Has: has, On: state == site.Active,
			Off: state == site.Stopped || state == site.Failed, Tried: asked[r.ID], Answered: answered[r.ID]})
	}
	return out
}

// machineOf is the instance that something runs on, or is an endpoint of; "" if none.
func machineOf(p *plan.Plan, id string) string {
	for range len(p.Resources) { // however deep it is hosted
		r := p.Resource(id)
		switch {
		case r == nil:
			return ""
		case r.Kind == kinds.Instance:
			return r.ID
		case r.AsEndpoint().EndpointOf != "":
			id = r.AsEndpoint().EndpointOf
		case r.On != "":
			id = r.On
		default:
			id = r.AsInterface().Instance
		}
	}
	return ""
}

// RaisingAgain compiles the order that raises machines that fell: those that are off are switched on, those that are silent are started again, those that
// are gone are built again.
func (svc *Service) RaisingAgain(ctx context.Context, deployment int64, fell []promise.Fall) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	d, wanted, err := svc.inside().DesignOf(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	if err := svc.moving.SettledBut(ctx, d.ID, 0); err != nil {
		return Order{}, err
	}
	p, err := change.Settle(d.Stand, deviations(fell), raisingOf(fell))
	if err != nil {
		return Order{}, fault.Default(fault.Refused, err)
	}
	return Order{Plan: p, Deployment: d.ID, Wanted: wanted, Template: d.Template}, svc.inside().Timed(ctx, p)
}

// deviations are how what fell is not as it is declared, and what is done about that.
func deviations(fell []promise.Fall) []change.Deviation {
	var out []change.Deviation
	for _, f := range fell {
		d := change.Deviation{Resource: f.Machine}
		switch f.How {
		case promise.FellGone:
			d.Verb = change.Rebuild
		case promise.FellSilent:
			d.Verb = change.Restart
		case promise.FellOff:
			d.Verb, d.Seen = change.Correct, map[string]string{inventory.AttrState: string(site.Stopped)}
		}
		out = append(out, d)
	}
	return out
}

// raisingOf says what is raised again, for the name of its run.
func raisingOf(fell []promise.Fall) string {
	if len(fell) == 1 {
		return "raise " + fell[0].Machine + " again"
	}
	return fmt.Sprintf("raise %d machines again", len(fell))
}
