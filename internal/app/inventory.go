package app

import (
	"context"
	"encoding/json"
	"fmt"
	"os/user"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/declare"
	"andamio/internal/core/estate"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Inventory is what there is: the three sources, and where they disagree.
type Inventory struct {
	*inventory.Report
	DeclaredRecords, RecordedRecords, ObservedRecords inventory.Records
	Coverage                                          []store.Covered
	At                                                time.Time
	// Unmapped says what the mapping could not work out.
	Unmapped []error
	Trend    []store.TrendPoint
	// Currency is what costs are in.
	Currency string
	// retired are records of what a deployment took away.
	retired []inventory.Record
}

// trendOf is how far back the trend goes.
const trendOf = 30 * 24 * time.Hour

// Reconcile compares what deployments declare, what the inventory records and what surveys observed last. Records take
// over what nobody need be asked about.
func (a *App) Reconcile(ctx context.Context) (*Inventory, error) {
	inv, in, err := a.gather(ctx)
	if err != nil {
		return nil, err
	}
	inv.Report = inventory.Reconcile(in)
	if err := a.ours(ctx, inv); err != nil {
		return nil, err
	}
	if err := a.bound(ctx, inv); err != nil {
		return nil, err
	}
	if err := a.takeOver(ctx, inv); err != nil {
		return nil, err
	}
	return inv, a.keepTrend(ctx, inv)
}

// ours takes out what is no disagreement but our own doing: what a run is just building, and what a deployment retired.
// The records of the latter go with it.
func (a *App) ours(ctx context.Context, inv *Inventory) error {
	all, err := a.store.Deployments(ctx)
	if err != nil {
		return err
	}
	building := map[string]bool{}
	for _, d := range all {
		if err := a.settled(ctx, d.ID); err != nil {
			building[d.Mark] = true
		}
	}
	inv.retired = insideGone(inv)
	inv.Findings = slices.DeleteFunc(inv.Findings, func(f inventory.Finding) bool {
		switch {
		case f.Type == inventory.Unmanaged:
			words := strings.Fields(f.Observed.Mark)
			return len(words) > 1 && words[0] == "andamio" && building[words[1]]
		case f.Type == inventory.Missing && f.Declared == nil && f.Recorded.Origin.Deployment != "" && f.Recorded.Mark != "":
			inv.retired = append(inv.retired, *f.Recorded)
			return true
		case f.Type == inventory.Duplicate && f.OtherRecorded && f.Other.Origin.Deployment != "" && f.Other.Mark != "" && f.Other.Provider != "" && f.Observed != nil &&
			f.Other.Provider != f.Observed.Provider:
			inv.retired = append(inv.retired, *f.Other) // what a move left behind, and was taken away when it was committed
			return true
		}
		return false
	})
	return nil
}

// insideGone are records of what was seen in instances and is there no more, by a later look into them.
func insideGone(inv *Inventory) []inventory.Record {
	looked := map[string]time.Time{}
	for _, c := range inv.Coverage {
		if c.Region == RegionInside && c.Error == "" {
			looked[c.Site] = c.Seen
		}
	}
	there := map[string]bool{}
	for i := range inv.ObservedRecords {
		there[inv.ObservedRecords[i].ID] = true
	}
	var out []inventory.Record
	for i := range inv.RecordedRecords {
		r := &inv.RecordedRecords[i]
		if at, ok := looked[r.Site]; ok && r.Region == RegionInside && !there[r.ID] && r.Seen.Before(at) {
			out = append(out, *r)
		}
	}
	return out
}

// bound takes away the way of giving up what others of its deployment need.
func (a *App) bound(ctx context.Context, inv *Inventory) error {
	standing := map[int64]*Deployment{}
	for i := range inv.Findings {
		f := &inv.Findings[i]
		if f.Type != inventory.Missing || f.Declared == nil || !f.Can(inventory.Retire) {
			continue
		}
		id, resource, _ := declare.Resource(f.Declared.ID)
		if standing[id] == nil {
			d, err := a.Deployment(ctx, id)
			if err != nil {
				return err
			}
			standing[id] = d
		}
		if needed := change.NeededBy(standing[id].Stand, resource); len(needed) > 0 {
			f.Ways = slices.DeleteFunc(f.Ways, func(w inventory.Way) bool { return w == inventory.Retire })
			f.Why = append(f.Why, "it cannot be given up: "+strings.Join(needed, ", ")+" is given its address")
		}
	}
	return nil
}

// gather reads the three sources.
func (a *App) gather(ctx context.Context) (*Inventory, inventory.Input, error) {
	inv := &Inventory{At: time.Now()}
	in := inventory.Input{Now: inv.At, Coverage: inventory.Coverage{}, Limits: inventory.Limits{Pairs: true}}
	m, err := a.workspace.Mapping()
	if err != nil {
		return nil, in, err
	}
	connections, err := a.workspace.Connections()
	if err != nil {
		return nil, in, err
	}
	price, err := a.prices(ctx)
	if err != nil {
		return nil, in, err
	}
	inv.Currency = price.currency(connections)
	if inv.DeclaredRecords, err = a.declared(ctx); err != nil {
		return nil, in, err
	}
	seen, err := a.store.Observations(ctx)
	if err != nil {
		return nil, in, err
	}
	inv.ObservedRecords, inv.Unmapped = m.Records(seen)
	inv.ObservedRecords = append(inv.ObservedRecords, price.standing()...)
	if inv.RecordedRecords, err = a.store.Records(ctx); err != nil {
		return nil, in, err
	}
	price.seen(inv.ObservedRecords, inv.DeclaredRecords)
	if inv.Coverage, err = a.store.Coverage(ctx); err != nil {
		return nil, in, err
	}
	for _, c := range inv.Coverage {
		at := inventory.Region{Site: c.Site, Region: c.Region}
		if c.Region == RegionInside {
			continue // says nothing of what stands at the site
		}
		in.Regions = append(in.Regions, at)
		if c.Error == "" {
			in.Coverage[at] = c.Seen
		}
	}
	for site := range price {
		in.Coverage[inventory.Region{Site: site}] = inv.At
	}
	if in.Decisions, err = a.store.Identities(ctx); err != nil {
		return nil, in, err
	}
	ignored, err := a.store.Ignored(ctx)
	for _, i := range ignored {
		in.Ignored = append(in.Ignored, i.Ignored)
	}
	in.Declared, in.Observed, in.Rules = inv.DeclaredRecords, inv.ObservedRecords, m.Authority
	in.Recorded = concern(inv.RecordedRecords, inv.ObservedRecords, connections)
	return inv, in, err
}

// concern leaves out records that a filtered survey would not list: that they were not seen says nothing.
func concern(records, seen inventory.Records, connections []workspace.Connection) inventory.Records {
	filters := map[string]workspace.Filter{}
	for _, c := range connections {
		if len(c.Filter.Kinds)+len(c.Filter.Tags) > 0 {
			filters[c.Site] = c.Filter
		}
	}
	if len(filters) == 0 {
		return records
	}
	there := map[string]bool{}
	for i := range seen {
		there[seen[i].Site+"/"+seen[i].Provider] = true
	}
	return slices.DeleteFunc(slices.Clone(records), func(r inventory.Record) bool {
		_, filtered := filters[r.Site]
		return filtered && r.Origin.Deployment == "" && !there[r.Site+"/"+r.Provider]
	})
}

// declared are the records of all that deployments say stands.
func (a *App) declared(ctx context.Context) (inventory.Records, error) {
	all, err := a.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	var out inventory.Records
	for i := range all {
		d := &all[i]
		out = append(out, declare.Records(declare.Deployment{ID: d.ID, Name: d.Name, Mark: d.Mark, Template: d.Template, Since: d.Stand.Since}, d.Stand.Plan)...)
	}
	return out, nil
}

// takeOver writes what records take over by themselves: what is declared and there is recorded, what only a site can know
// follows it, and when a thing was seen last.
func (a *App) takeOver(ctx context.Context, inv *Inventory) error {
	byID := map[string]int{}
	for i := range inv.RecordedRecords {
		byID[inv.RecordedRecords[i].ID] = i
	}
	var changes []store.RecordChange
	for i := range inv.New {
		r := inv.New[i].Normal()
		if _, taken := byID[r.ID]; taken {
			continue
		}
		why := "seen at " + r.Site
		if r.Origin.Deployment != "" {
			why = "built by " + r.Origin.Deployment + " and seen at " + r.Site
		}
		changes = append(changes, store.RecordChange{ID: r.ID, After: &r, Why: why})
	}
	for _, f := range inv.Follows {
		before, after := f.Record, f.Record.Clone()
		var words string
		for _, d := range f.Changes {
			setAttribute(&after, d.Attribute, d.Right)
			words += fmt.Sprintf(", %s %s", d.Attribute, orNone(d.Right))
		}
		changes = append(changes, store.RecordChange{ID: after.ID, Before: &before, After: &after, Why: "follows what counts" + words})
	}
	for i := range inv.retired {
		r := &inv.retired[i]
		changes = append(changes, store.RecordChange{ID: r.ID, Before: r, Why: "retired with its deployment"})
	}
	if len(changes) > 0 {
		if err := a.store.Revise(ctx, 0, "andamio", inv.At, changes); err != nil {
			return err
		}
	}
	if err := a.touch(ctx, inv); err != nil || len(changes) == 0 {
		return err
	}
	var err error
	inv.RecordedRecords, err = a.store.Records(ctx)
	return err
}

// touchEvery is how old a record's last sight may get before it is noted anew.
const touchEvery = 10 * time.Minute

func (a *App) touch(ctx context.Context, inv *Inventory) error {
	var seen []inventory.Record
	for _, p := range inv.Pairs {
		r, o := inv.RecordedRecords, &inv.ObservedRecords[p.Observed]
		if int(p.Recorded) >= len(r) || o.Seen.Sub(r[p.Recorded].Seen) < touchEvery {
			continue
		}
		now := r[p.Recorded].Clone()
		now.Seen, now.Region = o.Seen, o.Region
		if !slices.ContainsFunc(inv.Follows, func(f inventory.Follow) bool { return f.Record.ID == now.ID }) {
			seen = append(seen, now)
		}
	}
	if len(seen) == 0 {
		return nil
	}
	return a.store.Touch(ctx, seen)
}

// setAttribute sets an attribute or the provider's id of a record.
func setAttribute(r *inventory.Record, name, v string) {
	switch name {
	case "provider_id":
		r.Provider = v
	case "site":
		r.Site, r.Region = v, ""
	default:
		r.Set(name, v)
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// keepTrend keeps how many findings there are, whenever that has changed.
func (a *App) keepTrend(ctx context.Context, inv *Inventory) error {
	counts := map[inventory.Type]int{}
	for i := range inv.Findings {
		counts[inv.Findings[i].Type]++
	}
	var err error
	if inv.Trend, err = a.store.Trend(ctx, inv.At.Add(-trendOf)); err != nil {
		return err
	}
	if n := len(inv.Trend); n > 0 && equalCounts(inv.Trend[n-1].Counts, counts) || n == 0 && len(counts) == 0 {
		return nil
	}
	inv.Trend = append(inv.Trend, store.TrendPoint{At: inv.At, Counts: counts})
	return a.store.KeepTrend(ctx, inv.At, counts)
}

func equalCounts(a, b map[inventory.Type]int) bool {
	for _, t := range inventory.Types {
		if a[t] != b[t] {
			return false
		}
	}
	return true
}

// prices are what sites said they offer, by site.
type prices map[string]*estate.Site

func (a *App) prices(ctx context.Context) (prices, error) {
	facts, err := a.store.Facts(ctx)
	if err != nil {
		return nil, err
	}
	out := prices{}
	for site, body := range facts {
		s := &estate.Site{}
		if err := json.Unmarshal(body, s); err != nil {
			return nil, fmt.Errorf("what %s offers cannot be read: %w", site, err)
		}
		out[site] = s
	}
	return out, nil
}

// currency is what the prices are in.
func (p prices) currency(connections []workspace.Connection) string {
	var sites []*estate.Site
	for _, c := range connections {
		if s := p[c.Site]; s != nil {
			sites = append(sites, s)
		}
	}
	unit, _ := estate.OneCurrency(sites)
	return unit
}

// currency is what costs are in at the connected sites, as they said last.
func (a *App) currency(ctx context.Context) (string, error) {
	connections, err := a.workspace.Connections()
	if err != nil {
		return "", err
	}
	p, err := a.prices(ctx)
	return p.currency(connections), err
}

// seen says of observations what they cost an hour, by the prices of their sites. What a deployment declares costs what
// its plan says, which knows of traffic too: an observation of it costs that, and what it has more or less than declared.
func (p prices) seen(observed, declared inventory.Records) {
	by := map[string]*inventory.Record{}
	for i := range declared {
		if r := &declared[i]; r.Mark != "" {
			by[r.Site+" "+r.Mark] = r
		}
	}
	for i := range observed {
		r := &observed[i]
		cost := p.of(r)
		if d := by[r.Site+" "+r.Mark]; d != nil && r.Mark != "" {
			cost += d.Cost() - p.of(d)
		}
		if cost > 0 {
			r.Set(inventory.AttrCost, cost.String())
		}
	}
}

// of is what something costs an hour by the prices of its site.
func (p prices) of(r *inventory.Record) money.Amount {
	s := p[r.Site]
	if s == nil {
		return 0
	}
	switch r.Class {
	case kinds.Volume:
		return s.VolumeCosts(r.Number(inventory.AttrDisk), "")
	case kinds.Instance:
		on, off := s.Costs(r.Attributes[inventory.AttrSize], "", estate.Capacity{Cores: int(r.Number(inventory.AttrCores)), MemoryGiB: r.Number(inventory.AttrMemory), DiskGiB: r.Number(inventory.AttrDisk)})
		if r.Attributes[inventory.AttrState] == "stopped" {
			return off
		}
		return on
	}
	return 0
}

// standing are the hosts and images that sites said they have: facts, and records like others.
func (p prices) standing() inventory.Records {
	var out inventory.Records
	for name, s := range p {
		add := func(class kinds.Kind, id, title, zone string, attributes map[string]string) {
			out = append(out, inventory.Record{ID: fmt.Sprintf("%s/%s", name, id), Class: class, Name: title, Site: name, Provider: id, Attributes: attributes}.Normal())
		}
		for _, z := range s.Zones {
			for _, h := range z.Hosts {
				add(kinds.Host, "host/"+z.Name+"/"+h.Name, h.Name, z.Name, map[string]string{inventory.AttrZone: z.Name,
					"total_cores": fmt.Sprint(h.Total.Cores), "total_memory_gib": inventory.Number(h.Total.MemoryGiB)})
			}
		}
		for _, i := range s.Images {
			add(kinds.Image, "image/"+i.Name, i.Name, "", map[string]string{"os": i.OS})
		}
	}
	slices.SortFunc(out, func(a, b inventory.Record) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// Whoami is the name of the person at the keyboard, for histories.
func Whoami() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "somebody"
}
