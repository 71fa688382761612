package change

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Replicating says of which disks copies are kept at another site, and how they are made like them now.
type Replicating struct {
	// At names this time: sets of snapshots end with it.
	At string
	// Disks are instances, of which all disks are copied, and volumes. Those that are at Site are left out.
	Disks []string
	Site  string
	// Barrier has all machines stand still while snapshots of their disks are taken.
	Barrier bool
	// Copying is how they are copied; which and from where is left out.
	Copying plan.Copying
	// Cost is what keeping so much at a site costs an hour; nil is nothing.
	Cost func(site string, gib float64) money.Amount
}

// Sets of snapshots that replicating takes: of the disks, from which is copied, and of the copies once all of them are whole.
const (
	ShippedPrefix = "ship-"
	CopiedPrefix  = "copy-"
)

// CopyID is the id of the copy of a disk at a site.
func CopyID(disk, site string) string { return disk + "~" + site }

// AttrRenewedAt is when a copy was made like its disk last (RFC 3339).
const AttrRenewedAt = "renewed.at"

// Replicate is the plan that makes copies of disks at another site like them. Snapshots of the disks are taken together, and copied from, so that machines
// run on and nothing is of two moments; when all copies are whole, snapshots of them are taken, which are what is failed over to: what a run that broke off left
// is never in them. Those of the time before go then.
func Replicate(from Standing, r Replicating, purpose string) (*plan.Plan, error) {
	p := kept(from, purpose)
	disks, err := disksOf(from, r.Disks)
	if err != nil {
		return nil, err
	}
	disks = slices.DeleteFunc(disks, func(d disk) bool { return from.Plan.Resource(d.id).Site == r.Site })
	if len(disks) == 0 {
		return nil, fmt.Errorf("all of it is at %s already", r.Site)
	}
	ship := Snapping{Set: ShippedPrefix + r.At, Barrier: r.Barrier, Cost: r.Cost}
	taken, err := ship.together(from, p, disks)
	if err != nil {
		return nil, err
	}
	var renewed []string
	for _, d := range disks {
		renewed = append(renewed, r.renew(from, p, d, taken))
	}
	var done []string
	for _, d := range disks {
		done = append(done, r.keep(from, p, d, renewed, len(disks)))
	}
	p.Secrets = p.SecretsAsked()
	r.dropOlder(from, p, done)
	for i := range p.Sites {
		if p.Sites[i].Name == r.Site {
			return p, plan.Reindexed(p).Arrange()
		}
	}
	p.Sites = append(slices.Clone(p.Sites), plan.Site{Name: r.Site})
	return p, plan.Reindexed(p).Arrange()
}

// renew adds the copy of a disk where there is none, and the step that makes it like the disk.
func (r *Replicating) renew(from Standing, p *plan.Plan, d disk, taken []string) string {
	of := from.Plan.Resource(d.id)
	id := CopyID(d.id, r.Site)
	after := slices.Clone(taken)
	switch there := p.Resource(id); {
	case there != nil && from.Unsure[op.Create.On(id)]:
		there.Change, there.Reasons = plan.Build, []string{"whether it is whole is not known"}
		made := stepOf(op.Create, there, "make a copy of "+d.id, 2)
		p.Steps = append(p.Steps, made)
		after = append(after, made.ID)
	case there == nil:
		x := plan.Resource{ID: id, Node: of.Node + ".copy", Title: of.Title + ", copy", Kind: kinds.Volume, Service: of.Service, Site: r.Site, Detail: estate.GiB(of.DiskGiB()),
			Change: plan.Build, Reasons: []string{"a copy of " + d.id}, Spec: plan.VolumeSpec{DiskGiB: of.DiskGiB(), CopyOf: d.id}}
		if r.Cost != nil {
			x.CostPerHour = r.Cost(r.Site, of.DiskGiB())
			p.CostPerHour += x.CostPerHour
		}
		p.Resources = append(p.Resources, x)
		made := stepOf(op.Create, &x, "make a copy of "+d.id, 2)
		p.Steps = append(p.Steps, made)
		after = append(after, made.ID)
	case there.DiskGiB() < of.DiskGiB():
		there.Change, there.Reasons, there.Detail = plan.Amend, []string{d.id + " has grown"}, estate.GiB(of.DiskGiB())
		plan.Respec(there, func(s *plan.VolumeSpec) { s.DiskGiB = of.DiskGiB() })
		grown := stepOf(op.Alter, there, "make it as large as "+d.id, 2)
		p.Steps = append(p.Steps, grown)
		after = append(after, grown.ID)
	default:
		there.Change, there.Reasons = plan.Amend, []string{"it is made like " + d.id}
	}
	plan.Reindexed(p)
	terms := r.Copying
	terms.From, terms.Disks = of.Site, []plan.DiskCopy{{From: SnapshotID(d.id, ShippedPrefix+r.At), To: id, Title: d.id, GiB: of.DiskGiB()}}
	s := stepOf(op.Renew, p.Resource(id), "copy what was written on "+d.id, 30)
	s.After, s.Copying = after, &terms
	p.Steps = append(p.Steps, s)
	return s.ID
}

// keep adds the snapshot of a copy, which is taken when all copies are whole.
func (r *Replicating) keep(from Standing, p *plan.Plan, d disk, renewed []string, parts int) string {
	copied := p.Resource(CopyID(d.id, r.Site))
	shipped := p.Resource(SnapshotID(d.id, ShippedPrefix+r.At)).AsSnapshot()
	x := plan.Resource{ID: SnapshotID(copied.ID, CopiedPrefix+r.At), Node: copied.Node + ".snapshot", Title: copied.Title + ", as it was at " + r.At, Kind: kinds.Snapshot, Service: copied.Service,
		Site: r.Site, Detail: copied.Detail, Change: plan.Build, Reasons: []string{"it is taken"},
		Spec: plan.SnapshotSpec{Set: CopiedPrefix + r.At, Of: copied.ID, DiskGiB: shipped.DiskGiB, Parts: parts, Barrier: r.Barrier, Parent: Head(from, copied.ID), Holds: shipped.Holds}}
	if r.Cost != nil {
		x.CostPerHour = r.Cost(r.Site, shipped.DiskGiB)
		p.CostPerHour += x.CostPerHour
	}
	p.Resources = append(p.Resources, x)
	plan.Reindexed(p)
	s := stepOf(op.Create, &x, "keep the copy of "+d.id, 5)
	s.After = slices.Clone(renewed)
	p.Steps = append(p.Steps, s)
	return s.ID
}

// dropOlder takes away what was kept the times before: snapshots of the disks once they are copied from no more, and those of copies at this site.
func (r *Replicating) dropOlder(from Standing, p *plan.Plan, done []string) {
	for i := range from.Plan.Resources {
		x := from.Plan.Resources[i]
		of := x.AsSnapshot()
		shipped := strings.HasPrefix(of.Set, ShippedPrefix)
		if x.Kind != kinds.Snapshot || !shipped && !(strings.HasPrefix(of.Set, CopiedPrefix) && x.Site == r.Site) {
			continue
		}
		drop(p, p.Resource(x.ID), done)
	}
}

// drop adds the step that takes away a snapshot or a copy, after others.
func drop(p *plan.Plan, r *plan.Resource, after []string) string {
	r.Change, r.Reasons = plan.Retire, []string{"it is dropped"}
	p.CostPerHour -= r.CostPerHour
	gone := stepOf(op.Remove, r, "drop "+r.ID, 1)
	gone.Drops, gone.After = []string{op.Create.On(r.ID)}, slices.Clone(after)
	p.Steps = append(p.Steps, gone)
	return gone.ID
}

// Unreplicated is the plan that takes away the copies at a site, with what was kept of them.
func Unreplicated(from Standing, site, purpose string) (*plan.Plan, error) {
	p := kept(from, purpose)
	var snapshots []string
	copies := map[string]bool{}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.IsCopy() && r.Site == site {
			copies[r.ID] = true
		}
	}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Snapshot && copies[r.AsSnapshot().Of] {
			snapshots = append(snapshots, drop(p, r, nil))
		}
	}
	if len(copies) == 0 {
		return nil, fmt.Errorf("no copies are kept at %s", site)
	}
	others := slices.ContainsFunc(p.Resources, func(r plan.Resource) bool { return r.IsCopy() && !copies[r.ID] })
	for i := range p.Resources {
		switch r := &p.Resources[i]; {
		case copies[r.ID]:
			drop(p, r, snapshots)
		case r.Kind == kinds.Snapshot && !others && strings.HasPrefix(r.AsSnapshot().Set, ShippedPrefix):
			drop(p, r, nil)
		}
	}
	return p, plan.Reindexed(p).Arrange()
}
