package move

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/tui/part"
)

// factRows is how many lines the facts of a workload take, with their heads.
func (p *page) factRows(l lane, room int) int { return max(min(len(p.facts(l))+2, room), 4) }

// differences draws what will be otherwise for the selected workload, here and there.
func (p *page) differences(r, left, mid, right part.Rect, l lane) {
	on := func(i part.Ink) part.Style { return p.ink(i).On(part.Panel) }
	p.c.Across(left.X+1, r.Y, left.W-2, on(part.Dim), p.c.Look.Glyphs.Thin)
	p.c.Across(right.X+1, r.Y, right.W-2, on(part.Dim), p.c.Look.Glyphs.Thin)
	p.c.Text(left.X+2, r.Y+1, on(part.Dim), "here")
	p.c.Text(right.X+2, r.Y+1, on(part.Dim), "after the cutover")
	facts := p.facts(l)
	for i, d := range facts {
		y := r.Y + 2 + i
		if i == r.H-3 && len(facts) > r.H-2 {
			p.c.Text(mid.X+2, y, p.ink(part.Dim), fmt.Sprintf("and %d more: w lists all", len(facts)-i))
			return
		}
		p.c.Cut(left.X+2, y, left.W-4, on(part.Text), d.Here)
		ink := map[string]part.Ink{"worse": part.Ochre, "better": part.Teal, "": part.Text}[d.Weight]
		p.c.Cut(right.X+2, y, right.W-4, on(ink), d.There)
		text := "── " + d.What + " ──▸"
		p.c.Cut(mid.X+max((mid.W-part.Width(text))/2, 1), y, mid.W-2, p.ink(part.Dim), text)
	}
}

// weighty is the order in which differences are listed: what others notice comes first.
var weighty = []string{"rule", "address", "port", "name", "distance", "cost", "feature", "jurisdiction", "size", "zone", "storage", "network", "host name", "hardware", "inside", "image"}

func rankOf(d migrate.Difference) int {
	for i, what := range weighty {
		if strings.HasPrefix(d.What, what) {
			return i
		}
	}
	return len(weighty)
}

// facts are what differs for a workload, the weightiest first: of a move that goes on as the sites told it, where they
// did.
func (p *page) facts(l lane) []migrate.Difference {
	var all []migrate.Difference
	switch m := p.v.shown(); {
	case m != nil:
		all = slices.Clone(m.Differences)
	case p.v.draft != nil:
		all = slices.Clone(p.v.draft.Differences)
	}
	all = slices.DeleteFunc(all, func(d migrate.Difference) bool { return d.Instance != l.id })
	if p.v.shown() != nil {
		told := p.told(l)
		all = slices.DeleteFunc(all, func(d migrate.Difference) bool {
			return slices.ContainsFunc(told, func(t migrate.Difference) bool { return rankOf(t) == rankOf(d) })
		})
		all = append(told, all...)
	}
	slices.SortStableFunc(all, func(a, b migrate.Difference) int { return rankOf(a) - rankOf(b) })
	return all
}

// told is what the sites told of addresses, ports and prices of a workload, here and there.
func (p *page) told(l lane) []migrate.Difference {
	s := p.v.state
	if s == nil {
		return nil
	}
	var out []migrate.Difference
	for i := range s.Plan.Resources {
		r := &s.Plan.Resources[i]
		if r.Kind != kinds.Interface || r.AsInterface().Instance != l.id {
			continue
		}
		here, there := "", "known when it is plugged in"
		if a, ok := s.Attribute(r.ID+"@"+l.from, "address"); ok {
			here = a
		}
		if a, ok := s.Attribute(r.ID, "address"); ok {
			there = a
		}
		out = append(out, migrate.Difference{What: "address", Here: here, There: there})
		for _, port := range r.AsInterface().Ports {
			name := fmt.Sprintf("port.%d", port)
			was, _ := s.Attribute(r.ID+"@"+l.from, name)
			if now, ok := s.Attribute(r.ID, name); ok && now != was {
				out = append(out, migrate.Difference{What: fmt.Sprintf("port %d", port), Here: was, There: now, Weight: map[bool]string{true: "better", false: "worse"}[now == fmt.Sprint(port)]})
			}
		}
	}
	for i := range s.Plan.Steps {
		st := &s.Plan.Steps[i]
		if r := s.Plan.Resource(st.Resource); st.Op == op.Name && st.Naming != nil && (r.AsInterface().Instance == l.id || r.AsEndpoint().EndpointOf != "" && s.Plan.Resource(r.AsEndpoint().EndpointOf) != nil && s.Plan.Resource(r.AsEndpoint().EndpointOf).On == l.id) {
			word := "follows; resolvers are waited for"
			if now, ok := s.Attribute(st.Naming.Interface, "address"); ok && s.Step(st.ID).Status == run.Standing {
				word = "stands for " + now + ", say all who were asked"
			}
			out = append(out, migrate.Difference{What: "name", Here: st.Naming.Name + "." + s.Plan.Zone, There: word})
		}
	}
	if a, b := s.Plan.Resource(l.id+"@"+l.from), s.Plan.Resource(l.id); a != nil && b != nil {
		weight := map[bool]string{true: "worse", false: "better"}[b.CostPerHour > a.CostPerHour]
		out = append(out, migrate.Difference{What: "cost", Here: fmt.Sprintf("%.3f %s/h", a.CostPerHour, s.Plan.Currency), There: fmt.Sprintf("%.3f %s/h", b.CostPerHour, s.Plan.Currency), Weight: weight})
	}
	return out
}
