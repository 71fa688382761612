package deployments

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
)

// Changed compiles the order that leads a deployment to a design. An order without steps says that nothing is to be done.
func (svc *Service) Changed(ctx context.Context, deployment int64, to *plan.Plan, purpose string) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	d, err := svc.inside().Deployment(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	return svc.order(ctx, d, AtRest(to, d.Stand), to, purpose)
}

// OffIn are the instances of a deployment that are switched off.
func OffIn(s change.Standing) []string {
	var out []string
	for i := range s.Plan.Resources {
		if r := &s.Plan.Resources[i]; r.Kind == kinds.Instance && r.Off {
			out = append(out, r.ID)
		}
	}
	return out
}

// AtRest is a design in which what was stopped stays so: only starting it switches it on.
func AtRest(p *plan.Plan, s change.Standing) *plan.Plan {
	off := OffIn(s)
	if len(off) == 0 {
		return p
	}
	return change.Rest(p, func(r *plan.Resource) bool { return r.Off || slices.Contains(off, r.ID) })
}

// order compiles the change from what stands to a design; wanted is that design whole.
func (svc *Service) order(ctx context.Context, d *Deployment, to, wanted *plan.Plan, purpose string) (Order, error) {
	if err := svc.moving.SettledBut(ctx, d.ID, 0); err != nil {
		return Order{}, err
	}
	p, err := change.Compile(d.Stand, to, purpose)
	if err != nil {
		return Order{}, fault.Default(fault.Refused, err)
	}
	if err := svc.inside().Timed(ctx, p); err != nil {
		return Order{}, err
	}
	return Order{Plan: p, Deployment: d.ID, Wanted: wanted, Template: d.Template}, nil
}

// Retiring compiles the order that takes everything of a deployment away.
func (svc *Service) Retiring(ctx context.Context, deployment int64) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	d, err := svc.inside().Deployment(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	if last := d.Last(); d.Stand.Empty() && d.State() != run.Retired {
		return Order{}, fault.Conflictf("everything of %s was taken away, and run %d has not looked at the sites to its end: andamio resume %d does", d.Name, last.ID, last.ID)
	}
	if d.Stand.Empty() {
		return Order{}, fault.NotFoundf("nothing stands of deployment %d", deployment)
	}
	return svc.order(ctx, d, change.Nothing(d.Stand.Plan).Plan, nil, "retire "+d.Name)
}

// RollingBack compiles the inverse of a run: the order that leads back to what stood before it.
func (svc *Service) RollingBack(ctx context.Context, runID int64) (Order, error) {
	if err := svc.desk.See(ctx, acting.Run(runID)); err != nil {
		return Order{}, err
	}
	r, err := svc.Latest(ctx, runID)
	if err != nil {
		return Order{}, err
	}
	if err := svc.moving.NoMove(ctx, r); err != nil {
		return Order{}, err
	}
	d, err := svc.inside().Deployment(ctx, r.Deployment)
	if err != nil {
		return Order{}, err
	}
	if o, err, is := svc.unrestored(ctx, d, r); is {
		return o, err
	}
	if ran, err := svc.store.Plan(ctx, r.Plan); err != nil {
		return Order{}, err
	} else if change.Found(ran) {
		p, err := change.LetGo(d.Stand, fmt.Sprintf("let go what run %d took note of", runID))
		return Order{Plan: p, Deployment: d.ID, Template: d.Template}, err
	}
	earlier := d.Runs[:len(d.Runs)-1]
	before, err := svc.Fold(ctx, earlier)
	if err != nil {
		return Order{}, err
	}
	if len(earlier) == 0 {
		before = change.Nothing(d.Stand.Plan)
	}
	wanted, err := svc.Wanted(ctx, earlier)
	if err != nil {
		return Order{}, err
	}
	o, err := svc.order(ctx, d, before.Plan, wanted, fmt.Sprintf("roll back run %d", runID))
	if err == nil && len(o.Plan.Steps) == 0 {
		err = fault.Conflictf("run %d changed nothing, so there is nothing to roll back", runID)
	}
	return o, err
}

// LettingGo compiles the order by which a deployment is forgotten: everything stays at the sites as it is.
func (svc *Service) LettingGo(ctx context.Context, deployment int64) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	d, err := svc.inside().Deployment(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	if d.Stand.Empty() {
		return Order{}, fault.NotFoundf("nothing stands of deployment %d", deployment)
	}
	if err := svc.moving.SettledBut(ctx, d.ID, 0); err != nil {
		return Order{}, err
	}
	p, err := change.LetGo(d.Stand, "let go of "+d.Name)
	return Order{Plan: p, Deployment: d.ID, Template: d.Template}, err
}

// Powering compiles the order that switches the instances of a tier off, or on again: those of a service, of a node, or
// one alone by its name; "" is all.
func (svc *Service) Powering(ctx context.Context, deployment int64, tier string, on bool) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	d, wanted, err := svc.DesignOf(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	of := func(r *plan.Resource) bool { return tier == "" || r.Service == tier || r.Node == tier || r.ID == tier }
	if !slices.ContainsFunc(wanted.Resources, func(r plan.Resource) bool { return r.Kind == kinds.Instance && of(&r) }) {
		return Order{}, fault.NotFoundf("deployment %d has no instance of a tier %q; there are %s", deployment, tier, strings.Join(Tiers(wanted), ", "))
	}
	return svc.powering(ctx, d, wanted, on, of, tier)
}

// PoweringWhich compiles the order that switches some instances off, or on again; all others stay as they are.
func (svc *Service) PoweringWhich(ctx context.Context, deployment int64, on bool, which func(*plan.Resource) bool) (Order, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return Order{}, err
	}
	d, wanted, err := svc.DesignOf(ctx, deployment)
	if err != nil {
		return Order{}, err
	}
	return svc.powering(ctx, d, wanted, on, which, "")
}

func (svc *Service) powering(ctx context.Context, d *Deployment, wanted *plan.Plan, on bool, which func(*plan.Resource) bool, words string) (Order, error) {
	to := change.Rest(wanted, func(r *plan.Resource) bool {
		now := d.Stand.Plan.Resource(r.ID)
		if now == nil {
			now = r
		}
		if which(now) { // where it stands counts
			return !on
		}
		return now.Off
	})
	verb := map[bool]string{true: "start", false: "stop"}[on]
	return svc.order(ctx, d, to, wanted, strings.TrimSpace(verb+" "+words))
}

// Tiers are the services and nodes of a plan's instances.
func Tiers(p *plan.Plan) []string {
	var out []string
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance {
			out = append(out, r.Service, r.Node)
		}
	}
	slices.Sort(out)
	return slices.DeleteFunc(slices.Compact(out), func(s string) bool { return s == "" })
}

// Rising is the plan that switches all of a deployment on from all being off: how long starting it takes.
func Rising(d *Deployment, wanted *plan.Plan) (*plan.Plan, error) {
	off, err := change.Compile(d.Stand, change.Rest(wanted, func(*plan.Resource) bool { return true }), "stop")
	if err != nil {
		return nil, err
	}
	rested, err := change.Done(d.Stand, off)
	if err != nil {
		return nil, err
	}
	return change.Compile(rested, change.Rest(wanted, func(*plan.Resource) bool { return false }), "start")
}
