package reconcile

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/declare"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// Choice is how one finding is to be settled.
type Choice struct {
	Finding inventory.Finding `json:"finding"`
	Way     inventory.Way     `json:"way"`
}

// Settled is what a choice does, in words.
type Settled struct {
	Finding inventory.Finding `json:"-"`
	ID      string            `json:"finding"`
	Way     inventory.Way     `json:"way"`
	Effect  string            `json:"effect"`
}

// Settling is what some choices would do, before anything is done: worked out by [Service.Settling], done by [Service.Settle].
type Settling struct {
	Items []Settled `json:"items,omitempty"`
	// Notes are orders that change nothing at any site and are carried out with the rest; Orders change sites, and are to
	// be shown before they are begun.
	Notes  []deployments.Order `json:"notes,omitempty"`
	Orders []deployments.Order `json:"orders,omitempty"`
	// Changes are what becomes of records.
	Changes []store.RecordChange `json:"changes,omitempty"`

	// who settles, and what they said of findings that are ignored.
	who    string
	reason string
	until  time.Time
	ignore []store.Ignoring
	decide []inventory.Decision
	things []change.Thing
	// deviations are what deployments have otherwise, by deployment.
	deviations map[int64][]change.Deviation
	removed    []inventory.Record
	// mended are things whose names, tags or addresses are set, with what they were.
	mended []change.Thing
}

// Effort sums up the orders that change sites.
func (s *Settling) Effort() (steps int, seconds float64) {
	for _, o := range s.Orders {
		steps += len(o.Plan.Steps)
		seconds = max(seconds, o.Plan.Seconds)
	}
	return steps, seconds
}

// Saves is what the settling changes of the cost per hour: what is removed or made smaller costs no more.
func (s *Settling) Saves() money.Amount {
	var sum money.Amount
	for _, i := range s.Items {
		switch {
		case i.Way == inventory.CorrectSite && i.Finding.Type == inventory.Changed,
			i.Way == inventory.Retire && (i.Finding.Type == inventory.Unmanaged || i.Finding.Type == inventory.Duplicate):
			sum += i.Finding.CostPerHour
		}
	}
	return sum
}

// Plans are those that settling runs.
func (s *Settling) Plans() []*plan.Plan {
	var out []*plan.Plan
	for _, o := range s.Orders {
		out = append(out, o.Plan)
	}
	return out
}

// MustType is what is to be typed before settling takes something away with what is written on it: the name of the first
// deployment whose data goes, or of the one thing of nobody's; "" where no data goes.
func (s *Settling) MustType() string {
	for _, p := range s.Plans() {
		switch all := p.Losses(); {
		case len(all) == 1 && p.Name == deployments.ByHand:
			return all[0].Name
		case len(all) > 0:
			return p.Name
		}
	}
	return ""
}

// Settling works out what choices would do. Until and reason are those of findings that are ignored.
func (svc *Service) Settling(ctx context.Context, inv *Inventory, choices []Choice, reason string, until time.Time) (*Settling, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	s := &Settling{who: svc.desk.Actor.Name, reason: reason, until: until, deviations: map[int64][]change.Deviation{}}
	for i := range choices {
		c := &choices[i]
		if !c.Finding.Can(c.Way) {
			return nil, fault.Invalidf("%s of %s cannot be settled by %q; it can by %v", c.Finding.Type, c.Finding.Name, c.Way, c.Finding.Ways)
		}
		if c.Way == inventory.Ignore && strings.TrimSpace(reason) == "" {
			return nil, fault.Invalidf("to ignore a finding needs a reason")
		}
		effect := s.choose(c, inv, reason, until)
		s.Items = append(s.Items, Settled{c.Finding, c.Finding.ID, c.Way, effect})
	}
	if err := svc.compileSettling(ctx, s); err != nil {
		return s, err
	}
	return s, svc.hasRoom(ctx, s)
}

// choose takes a choice into account and says what it does.
func (s *Settling) choose(c *Choice, inv *Inventory, reason string, until time.Time) string {
	f := &c.Finding
	switch c.Way {
	case inventory.Ignore:
		s.ignore = append(s.ignore, store.Ignoring{Ignored: inventory.Ignored{Finding: f.ID, Until: until}, Reason: reason})
		if until.IsZero() {
			return "let be for good: " + reason
		}
		return fmt.Sprintf("let be until %s: %s", until.Format("2006-01-02"), reason)
	case inventory.Same:
		return s.same(f)
	case inventory.Apart:
		return s.apart(f)
	case inventory.Adopt:
		return s.adopt(f)
	case inventory.CorrectRecord:
		s.follow(f)
		return "the record follows: " + words(f.Differences, func(d inventory.Difference) string { return orNone(d.Observed) })
	case inventory.CorrectSite:
		return s.correct(f)
	}
	return s.retire(f, inv)
}

func words(all []inventory.Difference, value func(inventory.Difference) string) string {
	var out []string
	for _, d := range all {
		name, gib := strings.CutSuffix(d.Attribute, "_gib")
		text := strings.NewReplacer("_", " ", "tag.", "tag ").Replace(name) + " " + value(d)
		if gib {
			text += " GiB"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func (s *Settling) revise(before, after *inventory.Record, why string) {
	id := ""
	if after != nil {
		n := after.Normal()
		after, id = &n, n.ID
	} else {
		id = before.ID
	}
	s.Changes = append(s.Changes, store.RecordChange{ID: id, Before: before, After: after, Why: why})
}

// deviate notes a deviation of a deployment.
func (s *Settling) deviate(declared *inventory.Record, d change.Deviation) {
	if id, resource, ok := declare.Resource(declared.ID); ok {
		d.Resource = resource
		s.deviations[id] = append(s.deviations[id], d)
	}
}

// follow makes the record what was observed.
func (s *Settling) follow(f *inventory.Finding) {
	if f.Recorded == nil {
		return
	}
	after := f.Recorded.Clone()
	for _, d := range f.Differences {
		setAttribute(&after, d.Attribute, d.Observed)
	}
	after.Site, after.Provider, after.Region, after.Seen = f.Observed.Site, f.Observed.Provider, f.Observed.Region, f.Observed.Seen
	s.revise(f.Recorded, &after, "as observed: "+words(f.Differences, func(d inventory.Difference) string { return orNone(d.Observed) }))
}

func (s *Settling) adopt(f *inventory.Finding) string {
	if f.Type == inventory.Unmanaged {
		r := f.Observed.Clone()
		r.Origin.Who, r.Origin.When = s.who, time.Now().UTC()
		s.revise(nil, &r, "adopted as it is")
		return "record it as it is; export gives its part of a template"
	}
	s.follow(f)
	if f.Declared != nil {
		seen := map[string]string{}
		for _, d := range f.Differences {
			if d.Observed != "" {
				seen[d.Attribute] = d.Observed
			}
		}
		if f.Type == inventory.Moved {
			seen["site"], seen["provider_id"] = f.Observed.Site, f.Observed.Provider
		}
		s.deviate(f.Declared, change.Deviation{Verb: change.Accept, Seen: seen})
		return "declare " + words(f.Differences, func(d inventory.Difference) string { return orNone(d.Observed) }) + " from now on"
	}
	return "the record follows to " + f.Observed.Site
}

func (s *Settling) correct(f *inventory.Finding) string {
	if f.Type == inventory.Missing {
		s.deviate(f.Declared, change.Deviation{Verb: change.Rebuild, Mend: recordedAlone(f)})
		return "build it again as declared"
	}
	seen, mend := map[string]string{}, map[string]string{}
	for _, d := range f.Differences {
		if inventory.Mendable(d.Attribute) {
			mend[d.Attribute] = d.Right
		} else {
			seen[d.Attribute] = d.Observed
		}
	}
	if len(mend) > 0 {
		was := map[string]string{}
		for _, d := range f.Differences {
			if inventory.Mendable(d.Attribute) {
				was[d.Attribute] = d.Observed
			}
		}
		s.mended = append(s.mended, thing(f.Observed, was))
	}
	if f.Declared != nil {
		s.deviate(f.Declared, change.Deviation{Verb: change.Correct, Seen: seen, Mend: mend})
	} else {
		s.things = append(s.things, thing(f.Observed, mend))
	}
	return "set at the site: " + words(f.Differences, func(d inventory.Difference) string { return orNone(d.Right) })
}

// recordedAlone are the name and tags that the inventory has of something and its deployment does not: they are set
// when it is built again.
func recordedAlone(f *inventory.Finding) map[string]string {
	out := map[string]string{}
	if f.Recorded == nil {
		return out
	}
	for name, v := range f.Recorded.Tags() {
		out[inventory.TagPrefix+name] = v
	}
	if f.Recorded.Name != f.Declared.Name {
		out[inventory.AttrName] = f.Recorded.Name
	}
	return out
}

func thing(r *inventory.Record, mend map[string]string) change.Thing {
	kind := r.Class
	if !kind.Seen() {
		kind = kinds.None // no site can be asked to change it
	}
	return change.Thing{Kind: kind, Name: r.Name, Site: r.Site, Provider: r.Provider, DiskGiB: r.Number(inventory.AttrDisk), Mend: mend}
}

func (s *Settling) remove(r *inventory.Record) {
	t := thing(r, nil)
	t.Remove = true
	s.things, s.removed = append(s.things, t), append(s.removed, *r)
}

func (s *Settling) retire(f *inventory.Finding, inv *Inventory) string {
	switch {
	case f.Type == inventory.Unmanaged:
		s.remove(f.Observed)
		return "remove it from " + f.Site
	case f.Type == inventory.Duplicate && f.OtherRecorded:
		s.revise(f.Other, nil, "a second record of the same thing")
		return "drop the record " + f.Other.ID
	case f.Type == inventory.Duplicate:
		s.remove(f.Other)
		return fmt.Sprintf("remove the copy %s from %s", f.Other.Provider, f.Other.Site)
	}
	if f.Declared != nil {
		s.deviate(f.Declared, change.Deviation{Verb: change.GiveUp})
	}
	if f.Recorded != nil {
		s.revise(f.Recorded, nil, "gone, and given up")
		s.interfacesOf(f.Recorded, inv)
	}
	return "give it up: declare and record it no more"
}

// interfacesOf drops the records of interfaces that went with their instance.
func (s *Settling) interfacesOf(r *inventory.Record, inv *Inventory) {
	there := map[string]bool{}
	for i := range inv.ObservedRecords {
		there[inv.ObservedRecords[i].Site+"/"+inv.ObservedRecords[i].Provider] = true
	}
	for i := range inv.RecordedRecords {
		x := &inv.RecordedRecords[i]
		if x.Class == kinds.Interface && x.Site == r.Site && x.Attributes[inventory.AttrInstance] == r.Provider && !there[x.Site+"/"+x.Provider] {
			s.revise(x, nil, "went with "+r.Name)
		}
	}
}

func (s *Settling) same(f *inventory.Finding) string {
	if f.Type == inventory.Duplicate {
		s.revise(f.Other, nil, "merged into "+f.Subject().ID)
		if f.Recorded != nil {
			after := f.Recorded.Clone()
			for k, v := range f.Other.Attributes {
				if _, known := after.Value(k); !known {
					after.Set(k, v)
				}
			}
			s.revise(f.Recorded, &after, "merged with "+f.Other.ID)
		}
		return "merge the two records"
	}
	s.decide = append(s.decide, inventory.Decision{Site: f.Observed.Site, Provider: f.Observed.Provider, Record: f.Subject().ID, Same: true})
	s.follow(f)
	return "they are one: the record follows"
}

func (s *Settling) apart(f *inventory.Finding) string {
	if f.Type == inventory.Duplicate {
		r := f.Other.Clone()
		r.Mark, r.Origin.Who, r.Origin.When = "", s.who, time.Now().UTC()
		s.revise(nil, &r, "a thing of its own, not "+f.Subject().ID)
		s.decide = append(s.decide, inventory.Decision{Site: r.Site, Provider: r.Provider, Record: f.Subject().ID})
		return "record it as a thing of its own"
	}
	s.decide = append(s.decide, inventory.Decision{Site: f.Observed.Site, Provider: f.Observed.Provider, Record: f.Subject().ID})
	return "they are two: the one is missing, the other unmanaged"
}

// compileSettling makes the orders of what changes deployments and things of none.
func (svc *Service) compileSettling(ctx context.Context, s *Settling) error {
	for id, all := range s.deviations {
		d, err := svc.deployments.Deployment(ctx, id)
		if err != nil {
			return err
		}
		if err := svc.moving.SettledBut(ctx, id, 0); err != nil {
			return err
		}
		p, err := change.Settle(d.Stand, all, purposeOf(all))
		if err != nil {
			return fault.Default(fault.Refused, err)
		}
		if err := svc.deployments.Timed(ctx, p); err != nil {
			return err
		}
		wanted, err := svc.deployments.Wanted(ctx, d.Runs)
		if err != nil {
			return err
		}
		if wanted, err = change.Declared(wanted, all); err != nil {
			return err
		}
		o := deployments.Order{Plan: p, Deployment: id, Wanted: wanted, Template: d.Template}
		if change.Notes(p) {
			s.Notes = append(s.Notes, o)
		} else {
			s.Orders = append(s.Orders, o)
		}
	}
	slices.SortFunc(s.Orders, func(a, b deployments.Order) int { return int(a.Deployment - b.Deployment) })
	if len(s.things) == 0 {
		return nil
	}
	unit, err := svc.currency(ctx)
	if err != nil {
		return err
	}
	p, err := change.Handle(s.things, purposeOfThings(s.things), unit)
	if err != nil {
		return fault.Default(fault.Refused, err)
	}
	id, err := svc.byHand(ctx)
	if err != nil {
		return err
	}
	s.Orders = append(s.Orders, deployments.Order{Plan: p, Deployment: id})
	return nil
}

func purposeOf(all []change.Deviation) string {
	if len(all) == 1 {
		return fmt.Sprintf("%s %s", all[0].Verb, all[0].Resource)
	}
	return fmt.Sprintf("settle %d findings", len(all))
}

func purposeOfThings(all []change.Thing) string {
	removes := 0
	for _, t := range all {
		if t.Remove {
			removes++
		}
	}
	switch {
	case removes == 0:
		return "set what is recorded of " + printable.Count(len(all), "thing")
	case removes < len(all):
		return fmt.Sprintf("remove %s and set what is recorded of %d", printable.Count(removes, "thing"), len(all)-removes)
	case removes == 1:
		return "remove " + all[0].Name
	}
	return fmt.Sprintf("remove %d things", removes)
}

// what says what a settling settles.
func (s *Settling) what() string { return printable.Count(len(s.Items), "finding") }

// thing is what a settling changes, as far as it is asked who may.
func (s *Settling) thing() guard.Thing {
	on := guard.Thing{Name: s.what()}
	for _, i := range s.Items {
		if at := i.Finding.Site; at != "" && !slices.Contains(on.Sites, at) {
			on.Sites = append(on.Sites, at)
		}
	}
	return on
}
