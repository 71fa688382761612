package templates

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
)

// Over is one placement with what another has beside it.
func Over(a, b *placement.Placement) *placement.Placement {
	out := &placement.Placement{Choices: slices.Clone(a.Choices)}
	for _, c := range b.Choices {
		if !slices.ContainsFunc(a.Choices, func(x placement.Choice) bool { return x.Workload == c.Workload }) {
			out.Choices = append(out.Choices, c)
		}
	}
	return out
}

// Kept are the places of what stands, but for what was chosen to be elsewhere.
func (w DraftRequest) Kept() map[string]placement.Spot {
	out := map[string]placement.Spot{}
	for _, c := range w.Like.Choices {
		_, pinned := w.Choices.Pins[c.Workload]
		if !pinned && !slices.Contains(w.Choices.Forbids[c.Workload], c.Site) {
			out[c.Workload] = placement.Spot{Site: c.Site, Zone: c.Zone, Host: c.Host}
		}
	}
	return out
}

// WithoutLifted is what is lifted for each workload, but for some rules that hold again.
func WithoutLifted(lifted map[string][]string, heed []string) map[string][]string {
	out := map[string][]string{}
	for workload, rules := range lifted {
		rest := slices.DeleteFunc(slices.Clone(rules), func(r string) bool { return slices.Contains(heed, r) })
		if len(rest) > 0 {
			out[workload] = rest
		}
	}
	return out
}

// PlacementOf is where a deployment's instances stand, as a placement.
func PlacementOf(p *plan.Plan) *placement.Placement {
	out := &placement.Placement{}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance {
			out.Choices = append(out.Choices, placement.Choice{Workload: r.ID, Site: r.Site, Zone: r.Zone, Host: r.Host, Size: r.AsInstance().Size,
				CostPerHour: r.CostPerHour, Takes: estate.Capacity{Cores: r.AsInstance().Cores, MemoryGiB: r.AsInstance().MemoryGiB, DiskGiB: r.DiskGiB()}})
		}
	}
	return out
}

// Stay has workloads stay where they stand, and lifts for them the rules that they break there: what a rule forbids by
// now is for people to move, and is never built elsewhere by the way. It returns what is to be said of that.
func Stay(p *placement.Problem, w DraftRequest) []string {
	if len(w.Keep) == 0 && len(w.Lifted) == 0 {
		return nil
	}
	at := map[string]placement.Spot{}
	of := map[string]*placement.Workload{}
	sized := map[string]string{}
	if w.Like != nil {
		for _, c := range w.Like.Choices {
			sized[c.Workload] = c.Size
		}
	}
	for i := range p.Workloads {
		wl := &p.Workloads[i]
		of[wl.Name] = wl
		wl.Exempt = slices.Clone(w.Lifted[wl.Name])
		if spot, stands := w.Keep[wl.Name]; stands && wl.Pin == nil {
			if wl.Appliance != "" && sized[wl.Name] == wl.Appliance { // what a site runs itself stays that
				spot.Size = wl.Appliance
			}
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
			wl.Pin = &placement.Spot{Site: spot.Site, Zone: spot.Zone, Size: spot.Size}
		case spot.Zone != "":
			wl.Pin = &placement.Spot{Site: spot.Site, Size: spot.Size}
		default:
			wl.Pin, wl.Stays = nil, false
		}
	}
	return some
}

// MergeLifted adds rules that are lifted for workloads to those that were.
func MergeLifted(lifted map[string][]string, more map[string][]string) map[string][]string {
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
