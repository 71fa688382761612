package promises

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/promise"
	"andamio/internal/core/rehearse"
	"andamio/internal/service/deployments"
)

// leadLeast is how long before machines are to serve they are switched on at least: what is promised is that it serves then.
const leadLeast = time.Minute

// lead works out of off hours how long before their end machines are switched on, by what starting them took so far; and by the clocks of which sites they go, where
// that was promised.
func (svc *Service) lead(ctx context.Context, p *promise.Promise) error {
	if p.Hours == nil {
		return nil
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, p.Deployment)
	if err != nil {
		return err
	}
	if p.Hours.Zones, err = svc.clocks(p.Hours, d.Stand.Plan); err != nil {
		return err
	}
	start, err := deployments.Rising(d, wanted)
	if err != nil {
		return err
	}
	h, err := svc.deployments.History(ctx)
	p.Hours.Lead = max(rehearse.Ahead(start, h).Round(time.Second), leadLeast)
	return err
}

// clocks are the time zones of the sites where machines are; of one that says none it is that of the promise.
func (svc *Service) clocks(t *promise.HoursTerms, p *plan.Plan) (map[string]string, error) {
	if !t.Local {
		return nil, nil
	}
	all, err := svc.workspace.Connections()
	if err != nil {
		return nil, err
	}
	zone := map[string]string{}
	for i := range all {
		zone[all[i].Site] = all[i].TimeZone
	}
	out := map[string]string{}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance {
			out[r.Site] = cmp.Or(zone[r.Site], t.Off.Zone, "UTC")
		}
	}
	return out, nil
}

// hours switches machines of a deployment off or on that are to be so now: where both were due while nobody looked, the later one counts. What has ended is
// not switched on.
func (svc *Service) hours(ctx context.Context, deployment int64, on bool, now time.Time) (string, error) {
	p, err := svc.promised(ctx, deployment, promise.Hours)
	if err != nil {
		return "", err
	}
	d, err := svc.deployments.Deployment(ctx, deployment)
	if err != nil {
		return "", err
	}
	there := map[string]bool{}
	for _, site := range sitesOf(d.Stand.Plan) {
		off, err := p.Hours.IsOffAt(site, now)
		if err != nil {
			return "", err
		}
		if off != on {
			there[site] = true
		}
	}
	if len(there) == 0 {
		return map[bool]string{true: "it is off again by now", false: "it is on again by now"}[on], nil
	}
	if lease, err := svc.promised(ctx, deployment, promise.Lease); on && err == nil && lease.Lease.Over(now) {
		return "its lease is over", nil
	}
	note, err := svc.power(ctx, deployment, on, func(r *plan.Resource) bool { return there[r.Site] })
	if err != nil || !on {
		return note, err
	}
	return note, svc.learn(ctx, deployment)
}

// sitesOf are the sites where machines are, each once.
func sitesOf(p *plan.Plan) []string {
	var out []string
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance && !slices.Contains(out, r.Site) {
			out = append(out, r.Site)
		}
	}
	return out
}

// all are all machines.
func all(*plan.Resource) bool { return true }

// power switches machines of a deployment off or on. What is so already is kept so.
func (svc *Service) power(ctx context.Context, deployment int64, on bool, which func(*plan.Resource) bool) (string, error) {
	o, err := svc.deployments.PoweringWhich(ctx, deployment, on, which)
	if err != nil {
		return "", err
	}
	if len(o.Plan.Steps) == 0 {
		return "it was so already", nil
	}
	o.Bound = deployments.BoundByBlackouts
	if on { // nobody is served by what stays off
		o.Bound = deployments.BoundByNothing
	}
	return svc.done(ctx, o)
}

// learn has the next start begin as early as the last ones say.
func (svc *Service) learn(ctx context.Context, deployment int64) error {
	was, err := svc.promised(ctx, deployment, promise.Hours)
	if err != nil {
		return nil // it is no more
	}
	now := was
	terms := *was.Hours
	now.Hours = &terms
	if err := svc.lead(ctx, &now); err != nil || terms.Lead == was.Hours.Lead && maps.Equal(terms.Zones, was.Hours.Zones) {
		return err
	}
	now.Since = time.Now().UTC()
	if err := svc.store.SetPromise(ctx, now, &was); err != nil {
		svc.log.Warn("how long starting takes was not learned", "deployment", deployment, "err", err)
	}
	return nil
}
