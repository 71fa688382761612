package moves

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/clock"
	"andamio/internal/core/dispatch"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/site"
)

// FailOver says what is failed over to which site.
type FailOver struct {
	// To is where the copies are.
	To string `json:"to"`
	// What are instances, nodes or services; none is all that a copy is kept of there.
	What []string `json:"what,omitempty"`
	// Lift are names of rules that it may break.
	Lift []string `json:"lift,omitempty"`
}

// DraftFailOver works out how workloads go on at the site where copies of their disks are kept, as these were: what was written since then is lost. What
// they leave behind is switched off before; at sites that do not answer nothing is done, and it is switched off when they do ([Service.Fence]). What
// comes of it is a move, which is committed or gone back from like any other: going back copies what is otherwise by then.
func (svc *Service) DraftFailOver(ctx context.Context, deployment int64, w FailOver) (*Draft, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, err
	}
	if err := svc.SettledBut(ctx, deployment, 0); err != nil {
		return nil, err
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, deployment)
	if err != nil {
		return nil, err
	}
	set := change.NewestCopy(d.Stand, w.To)
	if set == "" {
		return nil, fault.Refusedf("no whole copy of %s is kept at %q; andamio replica lists them", d.Name, w.To)
	}
	instances, err := copied(d, wanted, set, w)
	if err != nil {
		return nil, err
	}
	e, _ := svc.sites.Estate(ctx) // those that do not answer are what it may be about
	if e == nil || e.Site(w.To) == nil {
		return nil, fault.Unavailablef("%s does not answer", w.To)
	}
	m := &Move{Name: "fail over " + strings.Join(instances, ", ") + " to " + w.To, Request: Request{What: instances, To: w.To, Mode: change.FromCopy, Lift: w.Lift},
		From: map[string]string{}, Loads: map[string]migrate.Load{}, Waves: []migrate.Wave{{Instances: instances}}, States: []WaveState{WavePlanned}}
	m.Move.Deployment = deployment
	for _, id := range instances {
		m.From[id] = wanted.Resource(id).Site
		m.Choices = append(m.Choices, migrate.Choice{Instance: id, Site: w.To})
	}
	return svc.draftFailOver(ctx, m, d, wanted, e, set)
}

// copied are the instances that are failed over: those that are meant, each with a copy of its own disk where they go. What is off serves nothing that
// could go on: it stays.
func copied(d *deployments.Deployment, wanted *plan.Plan, set string, w FailOver) ([]string, error) {
	has := func(id string) bool {
		return d.Stand.Plan.Resource(change.SnapshotID(change.CopyID(id, w.To), set)) != nil
	}
	off := func(id string) bool {
		r := d.Stand.Plan.Resource(id)
		return r == nil || r.Off
	}
	var out []string
	if len(w.What) > 0 {
		all, err := instancesOf(wanted, w.What)
		if err != nil {
			return nil, err
		}
		for _, id := range all {
			if !has(id) {
				return nil, fault.Refusedf("no copy of %s is kept at %s", id, w.To)
			}
			if off(id) {
				return nil, fault.Refusedf("%s is off: there is nothing of it that could go on at %s; fail over what runs", id, w.To)
			}
		}
		return all, nil
	}
	for i := range wanted.Resources {
		if r := &wanted.Resources[i]; r.Kind == kinds.Instance && !off(r.ID) && r.Site != w.To && has(r.ID) {
			out = append(out, r.ID)
		}
	}
	if len(out) == 0 {
		return nil, fault.Refusedf("no copy of the own disk of a machine that is on is kept at %s", w.To)
	}
	slices.Sort(out)
	return out, nil
}

func (svc *Service) draftFailOver(ctx context.Context, m *Move, d *deployments.Deployment, wanted *plan.Plan, e *estate.Estate, set string) (*Draft, error) {
	out := &Draft{Move: m, Stand: d.Stand, Loads: map[string]migrate.Load{}, Forecasts: map[string]migrate.Forecast{}}
	whole, gone := withSilent(e, m.From, func(name string) bool { return svc.answers(ctx, d.Stand, name) })
	lifted, err := svc.heed(ctx, d, wanted, whole, m)
	if err != nil {
		return nil, err
	}
	if out.To, err = migrate.Relocate(wanted, whole, m.Choices, d.Stand.Plan.Known); err != nil {
		return nil, fault.Default(fault.Refused, err)
	}
	out.To.Lifted = templates.MergeLifted(wanted.Lifted, liftedBy(lifted))
	instances := m.Waves[0].Instances
	p, to, err := change.Move(d.Stand, out.To, change.Moving{Instances: instances, Mode: change.FromCopy, Off: deployments.OffIn(d.Stand), Set: set, Gone: gone}, m.Name)
	if err != nil {
		return nil, fault.Default(fault.Refused, err)
	}
	if err := svc.deployments.Timed(ctx, p); err != nil {
		return nil, err
	}
	if out.Rehearsed, err = svc.runs.Rehearse(ctx, p, dispatch.Limits{}); err != nil {
		return nil, err
	}
	out.Seconds, out.Down = max(p.Seconds, out.Rehearsed.P50.Seconds()), migrate.Down(p)
	out.Differences = append(lifted, migrate.Differences(d.Stand, out.To, whole, instances, m.Request.Mode)...)
	m.Differences = out.Differences
	out.Order = deployments.Order{Plan: p, Deployment: d.ID, Wanted: to, Template: d.Template}
	return out, nil
}

// withSilent is an estate with the sites that workloads are at and that do not answer, of which no more than their names is known, and these names.
func withSilent(e *estate.Estate, from map[string]string, answers func(string) bool) (*estate.Estate, []string) {
	out := *e
	out.Sites = slices.Clone(e.Sites)
	var gone []string
	for _, name := range from {
		if slices.Contains(gone, name) || e.Site(name) != nil && answers(name) {
			continue
		}
		gone = append(gone, name)
		if e.Site(name) == nil {
			out.Sites = append(out.Sites, &estate.Site{Name: name, Title: name})
		}
	}
	slices.Sort(gone)
	return &out, gone
}

// DueFence is the kind of what is due until what a move left behind at a site is off that did not answer.
const DueFence = "switch off what was failed over"

// everyMinute is how often it is tried.
const everyMinute = "FREQ=MINUTELY"

// fenced has be due that what was failed over is switched off where it was, as soon as its sites answer.
func (svc *Service) fenced(ctx context.Context, d *Draft, now time.Time) error {
	if d.Move.Request.Mode != change.FromCopy {
		return nil
	}
	due := clock.Due{Kind: DueFence, Subject: fmt.Sprint(d.Move.ID), Rule: everyMinute, Zone: "UTC", Start: now.Truncate(time.Minute), By: svc.desk.Actor.By(guard.Schedule), Seen: now}
	_, err := svc.store.Register(ctx, due)
	return err
}

// fenceWithin bounds how long a site may take to say that it is there.
const fenceWithin = 10 * time.Second

// Fence switches off what a move left behind on, at sites that did not answer when it was failed over, and says what came of it. When nothing is
// on any more, nothing is due any more.
func (svc *Service) Fence(ctx context.Context, id int64) (string, error) {
	m, err := svc.inside().Move(ctx, id)
	if err != nil {
		return "", err
	}
	if !m.Open() {
		return "the move is over", svc.store.Unregister(ctx, DueFence, fmt.Sprint(id))
	}
	if m.States[0] != WaveMoved {
		return "it is " + string(m.States[0]), nil
	}
	if err := svc.runs.Quiet(ctx, m.Deployment); err != nil {
		return "a run of it goes on", nil
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, m.Deployment)
	if err != nil {
		return "", err
	}
	sites := leftOn(d.Stand)
	if len(sites) == 0 {
		return "all that was left is off", svc.store.Unregister(ctx, DueFence, fmt.Sprint(id))
	}
	at := sites[0] // the next is seen to when this one is off
	if !svc.answers(ctx, d.Stand, at) {
		return at + " does not answer yet", nil
	}
	p, err := change.Fence(d.Stand, at, "switch off what was failed over from "+at)
	if err != nil {
		return "", err
	}
	runID, err := svc.runs.Begin(ctx, deployments.Order{Plan: p, Deployment: m.Deployment, Wanted: wanted, Template: d.Template, Move: id, Bound: deployments.BoundByNothing})
	return fmt.Sprintf("run %d switches off what is left at %s", runID, at), err
}

// leftOn are the sites at which something that was left behind is on.
func leftOn(s change.Standing) []string {
	var out []string
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		if _, left := KeptOf(r); left && r.Kind == kinds.Instance && (!r.Off || r.Suspended) && !slices.Contains(out, r.Site) {
			out = append(out, r.Site)
		}
	}
	return out
}

// answers reports that a site says how what stands there of a deployment is.
func (svc *Service) answers(ctx context.Context, stand change.Standing, name string) bool {
	ctx, cancel := context.WithTimeout(ctx, fenceWithin)
	defer cancel()
	all, err := svc.sites.Sites()
	if err != nil || all[name] == nil {
		return false
	}
	for i := range stand.Plan.Resources {
		r := &stand.Plan.Resources[i]
		if id := stand.Plan.Known[r.ID]["site.id"]; r.Kind == kinds.Instance && r.Site == name && id != "" {
			_, err := all[name].Read(ctx, kinds.Instance, id)
			return err == nil || site.ClassOf(err) == site.NotFound
		}
	}
	_, err = all[name].Describe(ctx)
	return err == nil
}
