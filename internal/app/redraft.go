package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// Redraft works a template out anew for a deployment: what stands stays where it is and keeps its addresses. A rule that
// what stands breaks moves nothing: it is noted. Only what has no room any more where it stands is placed anew, and the
// difference says what that costs.
func (a *App) Redraft(ctx context.Context, deployment int64, t *Template, w DraftRequest) (*Draft, error) {
	d, err := a.Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	e, err := a.estateFor(ctx, d)
	if err != nil {
		return nil, err
	}
	wanted, err := a.wanted(ctx, d.Runs)
	if err != nil {
		return nil, err
	}
	if w, err = a.ruled(w); err != nil {
		return nil, err
	}
	w.Name, w.Stand, w.Like = d.Name, d.Stand.Plan, placed(d.Stand.Plan)
	if wanted != nil && d.State() == run.UnderWay { // what is not there yet will be where its run puts it
		w.Like = over(w.Like, placed(wanted))
	}
	w.Keep = w.kept()
	if wanted != nil {
		w.Lifted = without(wanted.Lifted, w.Heed)
	}
	draft := a.draw(t, w, e)
	draft.Deployment = d.ID
	return draft, nil
}

// Drafting works a template out for the connected sites. Where a deployment of its name stands it is worked out for
// that: raising what stands means changing it.
func (a *App) Drafting(ctx context.Context, t *Template, w DraftRequest) (*Draft, error) {
	name := w.Name
	if name == "" && t.Template != nil {
		name = t.Name
	}
	d, err := a.Taken(ctx, name)
	if err != nil {
		return nil, err
	}
	if d != nil {
		return a.Redraft(ctx, d.ID, t, w)
	}
	if w, err = a.ruled(w); err != nil {
		return nil, err
	}
	e, offline := a.Estate(ctx)
	if e != nil && len(e.Sites) == 0 {
		e = nil
	}
	return a.draw(t, w, e), offline
}

// draw works a template out, and remembers it for when something is raised from it.
func (a *App) draw(t *Template, w DraftRequest, e *estate.Estate) *Draft {
	d := NewDraft(t, w, e)
	if d.Plan != nil {
		a.drawn.Store(d.Plan.Source, t)
	}
	return d
}

// ruled is a wish under the administrator's rules, if it names no others.
func (a *App) ruled(w DraftRequest) (DraftRequest, error) {
	var err error
	if w.Rules == nil {
		w.Rules, err = a.workspace.Rules()
	}
	return w, err
}

// OrderOf is the order that carries a draft out: it raises the design, or leads what stands of it there.
func (a *App) OrderOf(ctx context.Context, d *Draft) (Order, error) {
	if d.Deployment == 0 {
		return Order{Plan: d.Plan, Template: d.Template.Origin()}, nil
	}
	return a.Changed(ctx, d.Deployment, d.Plan, "change "+d.Plan.Name)
}

// over is one placement with what another has beside it.
func over(a, b *placement.Placement) *placement.Placement {
	out := &placement.Placement{Choices: slices.Clone(a.Choices)}
	for _, c := range b.Choices {
		if !slices.ContainsFunc(a.Choices, func(x placement.Choice) bool { return x.Workload == c.Workload }) {
			out.Choices = append(out.Choices, c)
		}
	}
	return out
}

// kept are the places of what stands, but for what was chosen to be elsewhere.
func (w DraftRequest) kept() map[string]placement.Spot {
	out := map[string]placement.Spot{}
	for _, c := range w.Like.Choices {
		_, pinned := w.Choices.Pins[c.Workload]
		if !pinned && !slices.Contains(w.Choices.Forbids[c.Workload], c.Site) {
			out[c.Workload] = placement.Spot{Site: c.Site, Zone: c.Zone, Host: c.Host}
		}
	}
	return out
}

// without is what is lifted for each workload, but for some rules that hold again.
func without(lifted map[string][]string, heed []string) map[string][]string {
	out := map[string][]string{}
	for workload, rules := range lifted {
		rest := slices.DeleteFunc(slices.Clone(rules), func(r string) bool { return slices.Contains(heed, r) })
		if len(rest) > 0 {
			out[workload] = rest
		}
	}
	return out
}

// placed is where a deployment's instances stand, as a placement.
func placed(p *plan.Plan) *placement.Placement {
	out := &placement.Placement{}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance {
			out.Choices = append(out.Choices, placement.Choice{Workload: r.ID, Site: r.Site, Zone: r.Zone, Host: r.Host, Size: r.Spec.Size,
				CostPerHour: r.CostPerHour, Takes: estate.Capacity{Cores: r.Spec.Cores, MemoryGiB: r.Spec.MemoryGiB, DiskGiB: r.Spec.DiskGiB}})
		}
	}
	return out
}

// estateFor is the estate as a deployment may use it: what the deployment has itself counts as free.
func (a *App) estateFor(ctx context.Context, d *Deployment) (*estate.Estate, error) {
	e, err := a.Estate(ctx)
	if err != nil {
		return nil, err
	}
	for i := range d.Stand.Plan.Resources {
		r := &d.Stand.Plan.Resources[i]
		s := e.Site(r.Site)
		if s == nil {
			continue
		}
		if r.Kind == kinds.Instance {
			s.GiveBack(r.Zone, r.Host, estate.Capacity{Cores: r.Spec.Cores, MemoryGiB: r.Spec.MemoryGiB, DiskGiB: r.Spec.DiskGiB})
		}
	}
	for _, v := range reservationsOf(d.Stand.Plan) {
		if s := e.Site(v.Site); s != nil {
			unmarkTaken(s, v.Value)
		}
	}
	return e, nil
}

// stay has workloads stay where they stand, and lifts for them the rules that they break there: what a rule forbids by
// now is for people to move, and is never built elsewhere by the way. It returns what is to be said of that.
func stay(p *placement.Problem, w DraftRequest) []string {
	if len(w.Keep) == 0 && len(w.Lifted) == 0 {
		return nil
	}
	at := map[string]placement.Spot{}
	of := map[string]*placement.Workload{}
	for i := range p.Workloads {
		wl := &p.Workloads[i]
		of[wl.Name] = wl
		wl.Exempt = slices.Clone(w.Lifted[wl.Name])
		if spot, stands := w.Keep[wl.Name]; stands && wl.Pin == nil {
			wl.Pin, wl.Stays = &spot, true
			at[wl.Name] = spot
		}
	}
	var notes []string
	for _, b := range placement.Breaches(*p, at) {
		for _, name := range b.Workloads {
			of[name].Exempt = append(of[name].Exempt, b.Rule)
		}
		notes = append(notes, fmt.Sprintf("%s: not as the rule %s has it, %s; it stays as it stands, andamio move moves it", strings.Join(b.Workloads, ", "), b.Rule, b.How))
	}
	for i := range p.Traffic { // what is too far apart as it stands is so whatever else is done
		t := &p.Traffic[i]
		if x, y := of[t.From], of[t.To]; x != nil && y != nil && x.Stays && y.Stays {
			t.MaxMs = 0
		}
	}
	return notes
}

// release lets go what cannot stay for want of room: first its host, then its zone, in the end its site. It reports
// whether anything was let go.
func release(p *placement.Problem, err error) bool {
	var no *placement.Impossible
	if !errors.As(err, &no) {
		return false
	}
	some := false
	for i := range p.Workloads {
		wl := &p.Workloads[i]
		if !wl.Stays || wl.Pin == nil || len(no.Workloads) > 0 && !slices.Contains(no.Workloads, wl.Name) {
			continue
		}
		some = true
		switch spot := *wl.Pin; {
		case spot.Host != "":
			wl.Pin = &placement.Spot{Site: spot.Site, Zone: spot.Zone}
		case spot.Zone != "":
			wl.Pin = &placement.Spot{Site: spot.Site}
		default:
			wl.Pin, wl.Stays = nil, false
		}
	}
	return some
}

// merged adds rules that are lifted for workloads to those that were.
func merged(lifted map[string][]string, more map[string][]string) map[string][]string {
	out := maps.Clone(lifted)
	if out == nil {
		out = map[string][]string{}
	}
	for workload, rules := range more {
		all := slices.Concat(out[workload], rules)
		slices.Sort(all)
		out[workload] = slices.Compact(all)
	}
	return out
}
