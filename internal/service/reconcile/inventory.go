package reconcile

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/declare"
	"andamio/internal/core/inventory"
	"andamio/internal/service/deployments"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Inventory is what there is: the three sources, and where they disagree.
type Inventory struct {
	*inventory.Report
	DeclaredRecords inventory.Records `json:"declared_records"`
	RecordedRecords inventory.Records `json:"recorded_records"`
	ObservedRecords inventory.Records `json:"observed_records"`
	Coverage        []store.Covered   `json:"coverage,omitempty"`
	At              time.Time         `json:"at,omitzero"`
	// Unmapped says what the mapping could not work out.
	Unmapped []error            `json:"-"`
	Trend    []store.TrendPoint `json:"trend,omitempty"`
	// Currency is what costs are in.
	Currency string `json:"currency,omitempty"`
	// retired are records of what a deployment took away.
	retired []inventory.Record
}

// trendOf is how far back the trend goes.
const trendOf = 30 * 24 * time.Hour

// Reconcile compares what deployments declare, what the inventory records and what surveys observed last. Records take
// over what nobody need be asked about.
func (svc *Service) Reconcile(ctx context.Context) (*Inventory, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	inv, in, err := svc.gather(ctx)
	if err != nil {
		return nil, err
	}
	inv.Report = inventory.Reconcile(in)
	if err := svc.ours(ctx, inv); err != nil {
		return nil, err
	}
	if err := svc.bound(ctx, inv); err != nil {
		return nil, err
	}
	if err := svc.takeOver(ctx, inv); err != nil {
		return nil, err
	}
	return inv, svc.keepTrend(ctx, inv)
}

// ours takes out what is no disagreement but our own doing: what a run is just building, and what a deployment retired.
// The records of the latter go with it.
func (svc *Service) ours(ctx context.Context, inv *Inventory) error {
	building, err := svc.building(ctx)
	if err != nil {
		return err
	}
	inv.retired = insideGone(inv)
	inv.Findings = slices.DeleteFunc(inv.Findings, func(f inventory.Finding) bool {
		switch {
		case f.Type == inventory.Unmanaged:
			return markedBy(building, f.Observed.Mark)
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

// building are the marks of deployments that a run is just changing, or a move.
func (svc *Service) building(ctx context.Context) (map[string]bool, error) {
	all, err := svc.store.Deployments(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for _, d := range all {
		if err := svc.moving.SettledBut(ctx, d.ID, 0); err != nil {
			out[d.Mark] = true
		}
	}
	return out, nil
}

// markedBy reports that a thing bears the mark of one of some deployments.
func markedBy(deployments map[string]bool, mark string) bool {
	words := strings.Fields(mark)
	return len(words) > 1 && words[0] == "andamio" && deployments[words[1]]
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
func (svc *Service) bound(ctx context.Context, inv *Inventory) error {
	standing := map[int64]*deployments.Deployment{}
	for i := range inv.Findings {
		f := &inv.Findings[i]
		if f.Type != inventory.Missing || f.Declared == nil || !f.Can(inventory.Retire) {
			continue
		}
		id, resource, _ := declare.Resource(f.Declared.ID)
		if standing[id] == nil {
			d, err := svc.deployments.Deployment(ctx, id)
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
func (svc *Service) gather(ctx context.Context) (*Inventory, inventory.Input, error) {
	inv := &Inventory{At: time.Now()}
	in := inventory.Input{Now: inv.At, Coverage: inventory.Coverage{}, Limits: inventory.Limits{Pairs: true}}
	m, err := svc.workspace.Mapping()
	if err != nil {
		return nil, in, err
	}
	connections, err := svc.workspace.Connections()
	if err != nil {
		return nil, in, err
	}
	price, err := svc.prices(ctx)
	if err != nil {
		return nil, in, err
	}
	inv.Currency = price.currency(connections)
	if inv.DeclaredRecords, err = svc.declared(ctx); err != nil {
		return nil, in, err
	}
	seen, err := svc.store.Observations(ctx)
	if err != nil {
		return nil, in, err
	}
	inv.ObservedRecords, inv.Unmapped = m.Records(seen)
	inv.ObservedRecords = append(inv.ObservedRecords, price.standing()...)
	if inv.RecordedRecords, err = svc.store.Records(ctx); err != nil {
		return nil, in, err
	}
	price.seen(inv.ObservedRecords, inv.DeclaredRecords)
	if inv.Coverage, err = svc.store.Coverage(ctx); err != nil {
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
	if in.Decisions, err = svc.store.Identities(ctx); err != nil {
		return nil, in, err
	}
	ignored, err := svc.store.Ignored(ctx)
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
func (svc *Service) declared(ctx context.Context) (inventory.Records, error) {
	all, err := svc.deployments.Deployments(ctx)
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
func (svc *Service) takeOver(ctx context.Context, inv *Inventory) error {
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
		if err := svc.store.Revise(ctx, 0, "andamio", inv.At, changes); err != nil {
			return err
		}
	}
	if err := svc.touch(ctx, inv); err != nil || len(changes) == 0 {
		return err
	}
	var err error
	inv.RecordedRecords, err = svc.store.Records(ctx)
	return err
}

// touchEvery is how old a record's last sight may get before it is noted anew.
const touchEvery = 10 * time.Minute

func (svc *Service) touch(ctx context.Context, inv *Inventory) error {
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
	return svc.store.Touch(ctx, seen)
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
func (svc *Service) keepTrend(ctx context.Context, inv *Inventory) error {
	counts := map[inventory.Type]int{}
	for i := range inv.Findings {
		counts[inv.Findings[i].Type]++
	}
	var err error
	if inv.Trend, err = svc.store.Trend(ctx, inv.At.Add(-trendOf)); err != nil {
		return err
	}
	if n := len(inv.Trend); n > 0 && equalCounts(inv.Trend[n-1].Counts, counts) || n == 0 && len(counts) == 0 {
		return nil
	}
	inv.Trend = append(inv.Trend, store.TrendPoint{At: inv.At, Counts: counts})
	return svc.store.KeepTrend(ctx, inv.At, counts)
}

func equalCounts(a, b map[inventory.Type]int) bool {
	for _, t := range inventory.Types {
		if a[t] != b[t] {
			return false
		}
	}
	return true
}
