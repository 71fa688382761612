// Package snapshots is the service of what disks held once: taken together in sets, listed with what came of what, restored in place or beside,
// and dropped. Each is an order, a plan and a run like any other.
package snapshots

import (
	"cmp"
	"context"
	"regexp"
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
	"andamio/internal/core/plan/op"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/site"
)

// Service is the service of snapshots.
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

// Set is snapshots that were taken together.
type Set struct {
	Name  string    `json:"name"`
	Taken time.Time `json:"taken,omitzero"`
	// Parent is the set that was there before: what the disks held when they were written on.
	Parent string `json:"parent,omitempty"`
	// Whole says that all of it was taken; what is not is taken away by the next change.
	Whole   bool `json:"whole"`
	Barrier bool `json:"barrier,omitempty"`
	// Memory says that it keeps what was in the memory of machines too.
	Memory bool   `json:"memory,omitempty"`
	Disks  []Disk `json:"disks"`
	// Held is how many bytes are kept that hold something, GiB the size of the disks.
	Held    int64        `json:"held"`
	GiB     float64      `json:"gib"`
	PerHour money.Amount `json:"per_hour,omitempty"`
	// Head says that the disks hold what came of it: it was taken or restored last.
	Head bool `json:"head,omitempty"`
}

// ByRule reports that the set was taken by a rule, which drops it in its time.
func (s *Set) ByRule() bool { return strings.HasPrefix(s.Name, RulePrefix) }

// RulePrefix begins the names of sets that are taken by rule.
const RulePrefix = "auto-"

// Disk is what is kept of one disk.
type Disk struct {
	Snapshot string `json:"snapshot"`
	Of       string `json:"of"`
	Site     string `json:"site"`
	Held     int64  `json:"held"`
	// Gone says that the disk does not stand any more.
	Gone bool `json:"gone,omitempty"`
}

// Snapshots lists the sets of a deployment, the oldest first.
func (svc *Service) Snapshots(ctx context.Context, deployment int64) ([]Set, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, err
	}
	d, err := svc.deployments.Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	return SetsOf(d.Stand), nil
}

// SetsOf are the sets of what stands, the oldest first; one that is not whole comes last.
func SetsOf(s change.Standing) []Set {
	var out []Set
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		of := r.AsSnapshot()
		if r.Kind != kinds.Snapshot || replicates(of.Set) {
			continue
		}
		k := slices.IndexFunc(out, func(x Set) bool { return x.Name == of.Set })
		if k < 0 {
			k = len(out)
			out = append(out, Set{Name: of.Set, Parent: of.Parent, Barrier: of.Barrier, Whole: change.Whole(s, of.Set)})
		}
		x, known := &out[k], s.Plan.Known[r.ID]
		if taken, err := time.Parse(time.RFC3339Nano, known[change.AttrTaken]); err == nil && taken.After(x.Taken) {
			x.Taken = taken
		}
		held, _ := strconv.ParseInt(known[change.AttrHeld], 10, 64)
		if of.Memory {
			x.Memory, x.Held, x.GiB, x.PerHour = true, x.Held+held, x.GiB+of.DiskGiB, x.PerHour+r.CostPerHour
			continue
		}
		x.Disks = append(x.Disks, Disk{Snapshot: r.ID, Of: of.Of, Site: r.Site, Held: held, Gone: s.Plan.Resource(of.Of) == nil})
		x.Held, x.GiB, x.PerHour = x.Held+held, x.GiB+of.DiskGiB, x.PerHour+r.CostPerHour
		x.Head = x.Head || change.Head(s, of.Of) == of.Set
	}
	slices.SortStableFunc(out, func(a, b Set) int {
		switch {
		case a.Whole != b.Whole && a.Whole:
			return -1
		case a.Whole != b.Whole:
			return 1
		}
		return a.Taken.Compare(b.Taken)
	})
	return out
}

// replicates reports sets that belong to copies at another site, and are taken and dropped with these.
func replicates(set string) bool {
	return strings.HasPrefix(set, change.ShippedPrefix) || strings.HasPrefix(set, change.CopiedPrefix)
}

// name is what a set may be called: it ends the name of each of its snapshots.
var name = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,38}[a-z0-9])?$`)

// TakeRequest says what is taken.
type TakeRequest struct {
	// Name is what the set is called; "" is called by the time.
	Name string `json:"name,omitempty"`
	// Prefix begins a name that is the time.
	Prefix string `json:"prefix,omitempty"`
	// Of are tiers, nodes, instances or volumes; none is all.
	Of []string `json:"of,omitempty"`
	// Barrier has all machines stand still meanwhile.
	Barrier bool `json:"barrier,omitempty"`
	// Memory keeps what is in their memory too, with all their disks.
	Memory bool `json:"memory,omitempty"`
}

// Taking works out the order that takes snapshots of what stands of a deployment, together.
func (svc *Service) Taking(ctx context.Context, deployment int64, w TakeRequest, now time.Time) (deployments.Order, error) {
	d, wanted, err := svc.standing(ctx, deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	if w.Name == "" {
		w.Name = change.SetName(d.Stand, w.Prefix, now)
	}
	if !name.MatchString(w.Name) {
		return deployments.Order{}, fault.Invalidf("%q is no name of a snapshot: it has small letters, digits and -, at most 40", w.Name)
	}
	if replicates(w.Name) {
		return deployments.Order{}, fault.Invalidf("%q is how sets begin that are copied to other sites: give this one another name", w.Name)
	}
	if slices.ContainsFunc(SetsOf(d.Stand), func(s Set) bool { return s.Name == w.Name }) {
		return deployments.Order{}, fault.Conflictf("%s has a snapshot %s already: give this one another name", d.Name, w.Name)
	}
	disks, err := deployments.DisksOf(d, w.Of)
	if err != nil {
		return deployments.Order{}, err
	}
	cost, err := svc.cost(ctx, d.Stand.Plan, disks)
	if err == nil && w.Memory {
		err = svc.keepMemory(ctx, d.Stand.Plan, disks)
	}
	if err != nil {
		return deployments.Order{}, err
	}
	copied, err := svc.copied(ctx, d.Stand.Plan, disks)
	if err != nil {
		return deployments.Order{}, err
	}
	w.Barrier = w.Barrier || len(copied) > 0
	p, err := change.Snapshot(d.Stand, change.Snapping{Set: w.Name, Disks: disks, Barrier: w.Barrier, Memory: w.Memory, Cost: cost}, "snapshot "+w.Name+" of "+d.Name)
	if err == nil && len(copied) > 0 {
		p.Notes = append(p.Notes, "disks at "+strings.Join(copied, ", ")+" are copied, since no snapshots are kept there: machines stand still until that is done")
	}
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

// order is that of a plan for what stands; what it cannot be is a refusal.
func (svc *Service) order(ctx context.Context, d *deployments.Deployment, p, wanted *plan.Plan, err error) (deployments.Order, error) {
	if err != nil {
		return deployments.Order{}, fault.Default(fault.Refused, err)
	}
	return deployments.Order{Plan: p, Deployment: d.ID, Wanted: wanted, Template: d.Template}, svc.deployments.Timed(ctx, p)
}

// cost says what keeping disks costs, and refuses sites that keep none.
func (svc *Service) cost(ctx context.Context, p *plan.Plan, disks []string) (func(string, float64) money.Amount, error) {
	at := map[string]bool{}
	for _, id := range disks {
		at[p.Resource(id).Site] = true
	}
	e, estateErr := svc.sites.Estate(ctx)
	drivers, err := svc.sites.Sites()
	if err != nil {
		return nil, err
	}
	found := map[string]*estate.Site{}
	for name := range at {
		if _, keeps := site.Can[site.Snapshotter](ctx, drivers[name]); !keeps {
			return nil, fault.Refusedf("%s keeps no snapshots", name)
		}
		if found[name] = e.Site(name); found[name] == nil {
			return nil, fault.Unavailablef("%s does not say what it asks for: %w", name, estateErr)
		}
	}
	return func(at string, gib float64) money.Amount { return found[at].VolumeCosts(gib, "") }, nil
}

// keepMemory refuses sites that keep no memory of what some disks are of.
func (svc *Service) keepMemory(ctx context.Context, p *plan.Plan, disks []string) error {
	drivers, err := svc.sites.Sites()
	if err != nil {
		return err
	}
	for _, id := range disks {
		name := p.Resource(id).Site
		if _, keeps := site.Can[site.MemoryKeeper](ctx, drivers[name]); !keeps {
			return fault.Refusedf("%s keeps no memory of its machines: take it of their disks alone", name)
		}
	}
	return nil
}

// MayKeepMemory reports that the sites of some of a deployment, by the words of [TakeRequest], keep memory.
func (svc *Service) MayKeepMemory(ctx context.Context, deployment int64, of []string) (bool, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return false, err
	}
	d, err := svc.deployments.Deployment(ctx, deployment)
	if err != nil {
		return false, err
	}
	disks, err := deployments.DisksOf(d, of)
	return err == nil && len(disks) > 0 && svc.keepMemory(ctx, d.Stand.Plan, disks) == nil, nil
}

// copied are the sites of disks that keep snapshots by copying them, for which machines have to stand still.
func (svc *Service) copied(ctx context.Context, p *plan.Plan, disks []string) ([]string, error) {
	drivers, err := svc.sites.Sites()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, id := range disks {
		name := p.Resource(id).Site
		if c, may := site.Can[site.Copying](ctx, drivers[name]); may && !slices.Contains(out, name) && c.Copies(ctx) {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out, nil
}

// KeepingCosts is what keeping so many copies of all disks of a deployment costs an hour at their sites. That one copies disks for it is a refusal: nobody is there
// who lets machines stand still for so long.
func (svc *Service) KeepingCosts(ctx context.Context, d *deployments.Deployment, copies int) (money.Amount, error) {
	disks, err := deployments.DisksOf(d, nil)
	if err != nil || copies == 0 {
		return 0, err
	}
	cost, err := svc.cost(ctx, d.Stand.Plan, disks)
	if err != nil {
		return 0, err
	}
	if copied, err := svc.copied(ctx, d.Stand.Plan, disks); err != nil || len(copied) > 0 {
		return 0, cmp.Or(err, fault.Refusedf("%s keeps no snapshots but by copying disks, for which machines stand still: that is done by hand alone", strings.Join(copied, ", ")))
	}
	var out money.Amount
	for _, id := range disks {
		r := d.Stand.Plan.Resource(id)
		out += cost(r.Site, r.DiskGiB()) * money.Amount(copies)
	}
	return out, nil
}

// DroppingSnapshot works out the order that takes a set of snapshots away.
func (svc *Service) DroppingSnapshot(ctx context.Context, deployment int64, set string) (deployments.Order, error) {
	d, wanted, err := svc.standing(ctx, deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	if err := hasSet(d, set); err != nil {
		return deployments.Order{}, err
	}
	p, err := change.Dropped(d.Stand, set, "drop snapshot "+set+" of "+d.Name)
	return svc.order(ctx, d, p, wanted, err)
}

func hasSet(d *deployments.Deployment, set string) error {
	var names []string
	for _, s := range SetsOf(d.Stand) {
		if s.Name == set {
			return nil
		}
		names = append(names, s.Name)
	}
	if names == nil {
		return fault.NotFoundf("there is no snapshot of %s: andamio snapshot take %s takes one", d.Name, d.Name)
	}
	return fault.NotFoundf("%s has no snapshot %q; there are %s", d.Name, set, strings.Join(names, ", "))
}

// RestoreRequest says what is restored.
type RestoreRequest struct {
	Set string `json:"set"`
	// Of are the disks that are restored, by the words of [TakeRequest]; none is all of the set.
	Of []string `json:"of,omitempty"`
	// Discard keeps nothing of what the disks hold now.
	Discard bool `json:"discard,omitempty"`
	// DisksOnly has what runs be started anew from its disks, though the set keeps its memory.
	DisksOnly bool `json:"disks_only,omitempty"`
}

// Restoring works out the order that has disks of a deployment hold again what they held: what runs there is stopped before and started after. What
// they hold now is kept as a snapshot before, unless it is to be discarded.
func (svc *Service) Restoring(ctx context.Context, deployment int64, w RestoreRequest, now time.Time) (deployments.Order, error) {
	d, wanted, err := svc.standing(ctx, deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	if err := hasSet(d, w.Set); err != nil {
		return deployments.Order{}, err
	}
	r := change.Restoring{Set: w.Set}
	if len(w.Of) > 0 {
		kept := disksIn(d.Stand.Plan, w.Set)
		all, err := deployments.DisksOf(d, w.Of)
		if err != nil {
			return deployments.Order{}, err
		}
		if r.Disks = slices.DeleteFunc(all, func(id string) bool { return !slices.Contains(kept, id) }); len(r.Disks) == 0 {
			return deployments.Order{}, fault.NotFoundf("the snapshot %s keeps nothing of %s; it keeps %s", w.Set, strings.Join(w.Of, ", "), strings.Join(kept, ", "))
		}
	}
	if !w.Discard {
		r.Before = &change.Snapping{Set: change.SetName(d.Stand, "before-", now)}
		if r.Before.Cost, err = svc.cost(ctx, d.Stand.Plan, standing(d.Stand.Plan, disksIn(d.Stand.Plan, w.Set))); err != nil {
			return deployments.Order{}, err
		}
	}
	var p *plan.Plan
	if purpose := "restore " + w.Set + " of " + d.Name; change.KeepsMemory(d.Stand, w.Set) && !w.DisksOnly {
		p, err = change.Recalled(d.Stand, r, purpose)
	} else {
		p, err = change.Restored(d.Stand, deployments.AtRest(wanted, d.Stand), r, purpose)
	}
	return svc.order(ctx, d, p, wanted, err)
}

// disksIn are the disks of which a set keeps something.
func disksIn(p *plan.Plan, set string) []string {
	var out []string
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Snapshot && r.AsSnapshot().Set == set && !r.AsSnapshot().Memory {
			out = append(out, r.AsSnapshot().Of)
		}
	}
	return out
}

func standing(p *plan.Plan, ids []string) []string {
	return slices.DeleteFunc(ids, func(id string) bool { return p.Resource(id) == nil })
}

// Beside works out the order that raises another deployment like one, under a name and with networks and addresses of its own, whose volumes hold what
// a set of snapshots keeps. Its machines begin from their images, and their scripts are run.
func (svc *Service) Beside(ctx context.Context, deployment int64, set, name string) (deployments.Order, error) {
	return svc.beside(ctx, deployment, set, name, false)
}

// Trying works out the same where it costs least, since it is taken away again: what has disks is where its snapshots are.
func (svc *Service) Trying(ctx context.Context, deployment int64, set, name string) (deployments.Order, error) {
	return svc.beside(ctx, deployment, set, name, true)
}

// kept are the sites at which a set keeps volumes of instances, by these.
func kept(p *plan.Plan, set string) map[string]string {
	out := map[string]string{}
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind != kinds.Snapshot || r.AsSnapshot().Set != set {
			continue
		}
		for k := range p.Steps {
			if s := &p.Steps[k]; s.Op == op.Attach && s.Volume == r.AsSnapshot().Of {
				out[s.Resource] = r.Site
			}
		}
	}
	return out
}

func (svc *Service) beside(ctx context.Context, deployment int64, set, name string, cheaply bool) (deployments.Order, error) {
	d, _, err := svc.standing(ctx, deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	if err := hasSet(d, set); err != nil {
		return deployments.Order{}, err
	}
	if !change.Whole(d.Stand, set) {
		return deployments.Order{}, fault.Refusedf("not all of the snapshot %s was taken", set)
	}
	at := deployments.Raised{Sites: kept(d.Stand.Plan, set), Cheaply: cheaply}
	o, err := svc.deployments.Raising(ctx, deployment, name, at)
	if err != nil {
		return o, err
	}
	return svc.filled(ctx, d.Stand.Plan, set, o)
}

// filled has the volumes of a new deployment hold what a set keeps before anything uses them.
func (svc *Service) filled(ctx context.Context, from *plan.Plan, set string, o deployments.Order) (deployments.Order, error) {
	if o.Wanted == nil {
		o.Wanted = o.Plan
	}
	p := *o.Plan
	p.Steps = slices.Clone(p.Steps)
	filled := 0
	for i := range from.Resources {
		r := &from.Resources[i]
		of := r.AsSnapshot()
		if r.Kind != kinds.Snapshot || of.Memory || of.Set != set || from.Resource(of.Of) != nil && from.Resource(of.Of).Kind == kinds.Instance {
			continue
		}
		to := p.Resource(of.Of)
		switch {
		case to == nil || to.Kind != kinds.Volume:
			return o, fault.Refusedf("the new deployment has no volume %s, of which the snapshot %s keeps something", of.Of, set)
		case to.Site != r.Site:
			return o, fault.Refusedf("%s goes to %s, and the snapshot of it is at %s: it can be restored there alone", of.Of, to.Site, r.Site)
		case to.DiskGiB() < of.DiskGiB:
			return o, fault.Refusedf("%s is smaller than what was kept of it", of.Of)
		}
		fill(&p, to, r.ID, set, from.Known[r.ID]["site.id"])
		filled++
	}
	if filled == 0 {
		return o, fault.Refusedf("the snapshot %s keeps no volume: machines of another deployment begin from their images", set)
	}
	o.Plan = plan.Reindexed(&p)
	if err := o.Plan.Arrange(); err != nil {
		return o, err
	}
	return o, svc.deployments.Timed(ctx, o.Plan)
}

// fill adds the step that fills a volume between the one that creates it and those that come after that.
func fill(p *plan.Plan, r *plan.Resource, snapshot, set, provider string) {
	created := op.Create.On(r.ID)
	s := plan.Step{ID: op.Restore.On(r.ID), Resource: r.ID, Op: op.Restore, Site: r.Site, Title: "restore " + set, Seconds: 5, After: []string{created},
		Restoring: &plan.Restoring{Snapshot: snapshot, Provider: provider, Set: set}, Check: plan.Condition{Kind: plan.CheckSite}}
	for i := range p.Steps {
		if slices.Contains(p.Steps[i].After, created) {
			p.Steps[i].After = append(slices.Clone(p.Steps[i].After), s.ID)
		}
	}
	p.Steps = append(p.Steps, s)
}
