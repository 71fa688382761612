// Package replicas is the service of copies of disks that are kept at another site: they are made like the disks again and again, by what was written since the
// last time, and are what is failed over to (package moves).
package replicas

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
)

// Service is the service of copies at other sites.
type Service struct {
	desk        *acting.Desk
	sites       *sites.Service
	deployments *deployments.Service
	moving      deployments.Moving
}

// New returns the service for whoever is at the desk, over those of sites, deployments and moves.
func New(desk *acting.Desk, at *sites.Service, of *deployments.Service, moving deployments.Moving) *Service {
	return &Service{desk: desk, sites: at, deployments: of, moving: moving}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// Replica is what is kept of a deployment at another site.
type Replica struct {
	Site string `json:"site"`
	// Set is the one that is failed over to, As the moment of which it is, Barrier says that all machines stood still then; "" is that none is whole.
	Set     string    `json:"set,omitempty"`
	As      time.Time `json:"as,omitzero"`
	Barrier bool      `json:"barrier,omitempty"`
	Disks   []string  `json:"disks"`
	// Held is how many bytes hold something, GiB the size of the disks, PerHour what keeping it costs.
	Held    int64        `json:"held"`
	GiB     float64      `json:"gib"`
	PerHour money.Amount `json:"per_hour"`
}

// Replicas lists the copies of a deployment, by site.
func (svc *Service) Replicas(ctx context.Context, deployment int64) ([]Replica, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, err
	}
	d, err := svc.deployments.Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	return Of(d.Stand), nil
}

// Of are the copies of what stands, by site.
func Of(s change.Standing) []Replica {
	at := map[string]*Replica{}
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		if !r.IsCopy() {
			continue
		}
		x := at[r.Site]
		if x == nil {
			x = &Replica{Site: r.Site}
			at[r.Site] = x
		}
		x.Disks = append(x.Disks, r.AsVolume().CopyOf)
		x.GiB, x.PerHour = x.GiB+r.DiskGiB(), x.PerHour+r.CostPerHour
	}
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		of := r.AsSnapshot()
		x := at[r.Site]
		if r.Kind != kinds.Snapshot || x == nil || !strings.HasPrefix(of.Set, change.CopiedPrefix) || !change.Whole(s, of.Set) {
			continue
		}
		held, _ := strconv.ParseInt(s.Plan.Known[r.ID][change.AttrHeld], 10, 64)
		x.Set, x.Barrier, x.Held, x.PerHour = of.Set, of.Barrier, x.Held+held, x.PerHour+r.CostPerHour
		x.As = asOf(s, of.Set)
	}
	var out []Replica
	for _, x := range at {
		slices.Sort(x.Disks)
		out = append(out, *x)
	}
	slices.SortFunc(out, func(a, b Replica) int { return strings.Compare(a.Site, b.Site) })
	return out
}

// asOf is the moment of which copies are: when the first of the snapshots was taken that they were copied from.
func asOf(s change.Standing, set string) time.Time {
	ship := change.ShippedPrefix + strings.TrimPrefix(set, change.CopiedPrefix)
	var out time.Time
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		if r.AsSnapshot().Set != ship {
			continue
		}
		if at, err := time.Parse(time.RFC3339Nano, s.Plan.Known[r.ID][change.AttrTaken]); err == nil && (out.IsZero() || at.Before(out)) {
			out = at
		}
	}
	if out.IsZero() { // they were dropped when copies at another site were renewed: the name of the set says it to the minute
		return change.MomentOf(set)
	}
	return out
}

// Request says what is copied where.
type Request struct {
	Site string `json:"site"`
	// Of are tiers, nodes, instances or volumes; none is all that is not there already.
	Of []string `json:"of,omitempty"`
	// Barrier has all machines stand still while snapshots of their disks are taken.
	Barrier bool `json:"barrier,omitempty"`
	// Limit bounds the bytes per second on the wire; 0 does not.
	Limit int64 `json:"limit,omitempty"`
}

// Replicating works out the order that makes copies at a site like the disks of a deployment: all of them the first time, and what was written since then.
func (svc *Service) Replicating(ctx context.Context, deployment int64, w Request, now time.Time) (deployments.Order, error) {
	d, wanted, err := svc.standing(ctx, deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	disks, err := deployments.DisksOf(d, w.Of)
	if err != nil {
		return deployments.Order{}, err
	}
	if w.Of == nil {
		disks = slices.DeleteFunc(disks, func(id string) bool { return d.Stand.Plan.Resource(id).Site == w.Site })
	}
	grant, err := svc.ways(ctx, d.Stand.Plan, disks, w.Site)
	if err != nil {
		return deployments.Order{}, err
	}
	cost, err := svc.cost(ctx, d.Stand.Plan, disks, w.Site)
	if err != nil {
		return deployments.Order{}, err
	}
	r := change.Replicating{At: change.Moment(d.Stand, now), Disks: disks, Site: w.Site, Barrier: w.Barrier, Cost: cost, Copying: plan.Copying{Limit: w.Limit, Grant: grant}}
	p, err := change.Replicate(d.Stand, r, "replicate "+d.Name+" to "+w.Site)
	return svc.order(ctx, d, p, wanted, err)
}

// standing is a deployment that nothing else changes now, with the whole design that it was led to.
func (svc *Service) standing(ctx context.Context, deployment int64) (*deployments.Deployment, *plan.Plan, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, nil, err
	}
	if err := svc.moving.SettledBut(ctx, deployment, 0); err != nil {
		return nil, nil, err
	}
	return svc.deployments.DesignOf(ctx, deployment)
}

func (svc *Service) order(ctx context.Context, d *deployments.Deployment, p, wanted *plan.Plan, err error) (deployments.Order, error) {
	if err != nil {
		return deployments.Order{}, fault.Default(fault.Refused, err)
	}
	return deployments.Order{Plan: p, Deployment: d.ID, Wanted: wanted, Template: d.Template}, svc.deployments.Timed(ctx, p)
}

// ways looks that the sites of disks are paired with the one where copies are kept, and says whether that has to be let read what it copies.
func (svc *Service) ways(ctx context.Context, p *plan.Plan, disks []string, to string) (grant bool, err error) {
	seen := map[string]bool{}
	for _, id := range disks {
		from := p.Resource(id).Site
		if from == to || seen[from] {
			continue
		}
		seen[from] = true
		pair, err := svc.sites.CheckPair(ctx, from, to)
		if err != nil {
			return false, err
		}
		if why := pair.Trouble(); why != "" {
			return false, fault.Refusedf("%s and %s are paired, and %s", from, to, why)
		}
		_, g, err := pair.StartsFrom(from, to, "")
		if err != nil {
			return false, err
		}
		grant = grant || g
	}
	return grant, nil
}

// cost says what keeping disks costs, and refuses sites that keep no snapshots: copies are taken from them, and kept as them.
func (svc *Service) cost(ctx context.Context, p *plan.Plan, disks []string, to string) (func(string, float64) money.Amount, error) {
	all, err := svc.sites.Keeping(ctx)
	if err != nil {
		return nil, err
	}
	at := map[string]*estate.Site{}
	keeps := map[string]bool{}
	for _, k := range all {
		at[k.Site.Name], keeps[k.Site.Name] = k.Site, k.Keeps
	}
	need := []string{to}
	for _, id := range disks {
		need = append(need, p.Resource(id).Site)
	}
	for _, name := range need {
		switch {
		case at[name] == nil:
			return nil, fault.Unavailablef("%s is not connected, or does not answer", name)
		case !keeps[name]:
			return nil, fault.Refusedf("%s keeps no snapshots, which copies are made of", name)
		}
	}
	return func(site string, gib float64) money.Amount { return at[site].VolumeCosts(gib, "") }, nil
}

// Costs is what copies of all disks of a deployment at a site cost an hour: the copies, what is kept of them, and the snapshots that they are copied from. That there
// can be none is an error.
func (svc *Service) Costs(ctx context.Context, d *deployments.Deployment, to string) (money.Amount, error) {
	disks, err := deployments.DisksOf(d, nil)
	if err != nil {
		return 0, err
	}
	p := d.Stand.Plan
	disks = slices.DeleteFunc(disks, func(id string) bool { return p.Resource(id).Site == to })
	if _, err := svc.ways(ctx, p, disks, to); err != nil {
		return 0, err
	}
	cost, err := svc.cost(ctx, p, disks, to)
	if err != nil {
		return 0, err
	}
	var out money.Amount
	for _, id := range disks {
		r := p.Resource(id)
		out += 2*cost(to, r.DiskGiB()) + cost(r.Site, r.DiskGiB())
	}
	return out, nil
}

// DroppingReplica works out the order that takes the copies at a site away.
func (svc *Service) DroppingReplica(ctx context.Context, deployment int64, site string) (deployments.Order, error) {
	d, wanted, err := svc.standing(ctx, deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	p, err := change.Unreplicated(d.Stand, site, "drop the copies of "+d.Name+" at "+site)
	return svc.order(ctx, d, p, wanted, err)
}
