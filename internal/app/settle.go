package app

import (
	"context"
	"encoding/json"
	"errors"
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
	"andamio/internal/store"
)

// Choice is how one finding is to be settled.
type Choice struct {
	Finding inventory.Finding
	Way     inventory.Way
}

// Settled is what a choice does, in words.
type Settled struct {
	Finding inventory.Finding `json:"-"`
	ID      string            `json:"finding"`
	Way     inventory.Way     `json:"way"`
	Effect  string            `json:"effect"`
}

// Settling is what some choices would do, before anything is done: worked out by [App.Settling], done by [App.Settle].
type Settling struct {
	Items []Settled
	// Notes are orders that change nothing at any site and are carried out with the rest; Orders change sites, and are to
	// be shown before they are begun.
	Notes, Orders []Order
	// Changes are what becomes of records.
	Changes []store.RecordChange

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
		case len(all) == 1 && p.Name == ByHand:
			return all[0].Name
		case len(all) > 0:
			return p.Name
		}
	}
	return ""
}

// Settling works out what choices would do. Until and reason are those of findings that are ignored.
func (a *App) Settling(ctx context.Context, inv *Inventory, choices []Choice, reason string, until time.Time) (*Settling, error) {
	s := &Settling{who: a.actor.Name, reason: reason, until: until, deviations: map[int64][]change.Deviation{}}
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
	if err := a.compileSettling(ctx, s); err != nil {
		return s, err
	}
	return s, a.hasRoom(ctx, s)
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
func (a *App) compileSettling(ctx context.Context, s *Settling) error {
	for id, all := range s.deviations {
		d, err := a.Deployment(ctx, id)
		if err != nil {
			return err
		}
		if err := a.settled(ctx, id); err != nil {
			return err
		}
		p, err := change.Settle(d.Stand, all, purposeOf(all))
		if err != nil {
			return fault.Default(fault.Refused, err)
		}
		if err := a.Timed(ctx, p); err != nil {
			return err
		}
		wanted, err := a.wanted(ctx, d.Runs)
		if err != nil {
			return err
		}
		o := Order{Plan: p, Deployment: id, Wanted: wanted, Template: d.Template}
		if change.Notes(p) {
			s.Notes = append(s.Notes, o)
		} else {
			s.Orders = append(s.Orders, o)
		}
	}
	slices.SortFunc(s.Orders, func(a, b Order) int { return int(a.Deployment - b.Deployment) })
	if len(s.things) == 0 {
		return nil
	}
	unit, err := a.currency(ctx)
	if err != nil {
		return err
	}
	p, err := change.Handle(s.things, purposeOfThings(s.things), unit)
	if err != nil {
		return fault.Default(fault.Refused, err)
	}
	id, err := a.byHand(ctx)
	if err != nil {
		return err
	}
	s.Orders = append(s.Orders, Order{Plan: p, Deployment: id})
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

// ByHand is the name of the deployment to which runs belong that handle what belongs to none.
const ByHand = "by-hand"

func (a *App) byHand(ctx context.Context) (int64, error) {
	all, err := a.store.Deployments(ctx)
	if err != nil {
		return 0, err
	}
	for _, d := range all {
		if d.Name == ByHand {
			return d.ID, nil
		}
	}
	return a.store.CreateDeployment(ctx, ByHand, "")
}

// actBody is what is kept of an act beside what it did to records.
type actBody struct {
	Items []Settled `json:"items"`
	// Notes are runs that only took note, Runs those that change sites; Removed is what they take away.
	Notes   []int64            `json:"notes,omitempty"`
	Runs    []int64            `json:"runs,omitempty"`
	Removed []inventory.Record `json:"removed,omitempty"`
	// Mended are things at sites with the names, tags and addresses that they had.
	Mended []change.Thing `json:"mended,omitempty"`
	Reason string         `json:"reason,omitempty"`
}

// what says what a settling settles.
func (s *Settling) what() string { return printable.Count(len(s.Items), "finding") }

// Settle does what was worked out: records change, what only takes note is run to its end, and what changes sites is
// begun. It returns the act, with which all that can be undone, and the runs that were begun.
func (a *App) Settle(ctx context.Context, s *Settling) (act int64, runs []int64, err error) {
	err = a.do(ctx, guard.SettleFound, s.what(), func() (err error) {
		act, runs, err = a.settle(ctx, s)
		return err
	})
	return act, runs, err
}

func (a *App) settle(ctx context.Context, s *Settling) (act int64, runs []int64, err error) {
	body := actBody{Items: s.Items, Removed: s.removed, Mended: s.mended}
	if err := a.beginSettling(ctx, s, &body); err != nil {
		return 0, nil, errors.Join(err, a.abandonSettling(ctx, body))
	}
	data, err := json.Marshal(body)
	if err != nil {
		return 0, nil, err
	}
	act, err = a.store.RecordSettlement(ctx, a.actor.Name, time.Now(), store.SettlementChanges{Body: data, Changes: s.Changes, Ignore: s.ignore, Decide: s.decide})
	if err != nil {
		return 0, nil, err
	}
	for _, id := range body.Runs {
		if err := a.spawn(id); err != nil {
			return act, body.Runs, err
		}
	}
	return act, body.Runs, nil
}

// beginSettling makes the runs of a settling, and works through those that only take note. All runs are made before
// anything is noted: what cannot be run is known then.
func (a *App) beginSettling(ctx context.Context, s *Settling, body *actBody) error {
	for _, part := range []struct {
		orders []Order
		into   *[]int64
	}{{s.Orders, &body.Runs}, {s.Notes, &body.Notes}} {
		for _, o := range part.orders {
			id, err := a.NewRun(ctx, o)
			if err != nil {
				return err
			}
			*part.into = append(*part.into, id)
		}
	}
	for _, id := range body.Notes {
		if err := a.Work(ctx, id); err != nil {
			return fault.Conflictf("the site no longer has what was observed; survey it again: %w", err)
		}
	}
	return nil
}

// abandonSettling takes back what a settling that failed has begun: nothing of it counts.
func (a *App) abandonSettling(ctx context.Context, body actBody) error {
	var errs []error
	for _, id := range slices.Backward(body.Notes) {
		errs = append(errs, a.store.Void(ctx, id))
	}
	for _, id := range body.Runs {
		errs = append(errs, a.store.Forget(ctx, id))
	}
	return errors.Join(errs...)
}

// Settlement is something that was done to findings, and whether it was undone.
type Settlement struct {
	store.Settlement
	Items []Settled
	Runs  []int64
}

// Settlements lists what was done, the newest first.
func (a *App) Settlements(ctx context.Context, limit int) ([]Settlement, error) {
	all, err := a.store.Settlements(ctx, limit)
	if err != nil {
		return nil, err
	}
	var out []Settlement
	for _, x := range all {
		var body actBody
		if err := json.Unmarshal(x.Body, &body); err != nil {
			return nil, fmt.Errorf("act %d cannot be read: %w", x.ID, err)
		}
		out = append(out, Settlement{x, body.Items, body.Runs})
	}
	return out, nil
}

// Undo takes back an act: records, decisions and what was ignored at once. What it changed at sites is undone by orders,
// which are returned to be shown: the inverse of its runs. What was removed is built anew; what was on its disks is gone.
func (a *App) Undo(ctx context.Context, id int64) (out []Order, err error) {
	err = a.do(ctx, guard.UndoSettled, fmt.Sprintf("act %d", id), func() (err error) {
		out, err = a.undo(ctx, id)
		return err
	})
	return out, err
}

func (a *App) undo(ctx context.Context, id int64) ([]Order, error) {
	all, err := a.store.Settlements(ctx, 1000)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(x store.Settlement) bool { return x.ID == id })
	if i < 0 || all[i].Undone {
		return nil, fault.NotFoundf("act %d is not there or was undone already", id)
	}
	var body actBody
	if err := json.Unmarshal(all[i].Body, &body); err != nil {
		return nil, err
	}
	orders, err := a.inverse(ctx, body)
	if err != nil {
		return nil, err
	}
	for _, run := range slices.Backward(body.Notes) {
		if err := a.store.Void(ctx, run); err != nil {
			return nil, err
		}
	}
	return orders, a.store.UndoSettlement(ctx, id, a.actor.Name, time.Now())
}

// inverse are the orders that undo what an act changed at sites.
func (a *App) inverse(ctx context.Context, body actBody) ([]Order, error) {
	var orders []Order
	for _, id := range body.Runs {
		r, err := a.store.Run(ctx, id)
		if err != nil {
			return nil, err
		}
		d, err := a.Deployment(ctx, r.Deployment)
		if err != nil {
			return nil, err
		}
		if d.Name == ByHand {
			continue
		}
		o, err := a.RollingBack(ctx, id)
		if err != nil {
			a.Log.Info("a run of an act has nothing to roll back", "run", id, "err", err)
			continue
		}
		orders = append(orders, o)
	}
	return a.inverseByHand(ctx, body, orders)
}

// inverseByHand adds the orders that set again what was set otherwise, and build again what was removed.
func (a *App) inverseByHand(ctx context.Context, body actBody, orders []Order) ([]Order, error) {
	if len(body.Removed)+len(body.Mended) == 0 {
		return orders, nil
	}
	id, err := a.byHand(ctx)
	if err != nil {
		return nil, err
	}
	unit, err := a.currency(ctx)
	if err != nil {
		return nil, err
	}
	o := Order{Deployment: id}
	if o.Plan, err = change.Handle(body.Mended, "set again what was set otherwise", unit); err != nil {
		return nil, fault.Default(fault.Refused, err)
	}
	if len(body.Removed) > 0 {
		if o.Wanted, err = change.Restore(body.Removed, unit); err != nil {
			return nil, fault.Default(fault.Refused, err)
		}
		if o.Plan, err = change.Beside(o.Plan, o.Wanted); err != nil { // one deployment runs one plan at a time
			return nil, fault.Default(fault.Refused, err)
		}
	}
	return append(orders, o), nil
}
