package placement

import (
	"fmt"
	"runtime"
	"sync"

	"andamio/internal/core/estate"
)

// result gathers the choices with their reasons, in the problem's order.
func (s *search) result() *Placement {
	out := &Placement{Choices: make([]Choice, len(s.p.Workloads))}
	var group sync.WaitGroup
	workers := runtime.GOMAXPROCS(0)
	for k := range workers { // nothing is placed any more, so the verdicts can be given side by side
		group.Go(func() {
			for i := len(out.Choices) * k / workers; i < len(out.Choices)*(k+1)/workers; i++ {
				out.Choices[i] = s.choice(s.p.Workloads[i])
			}
		})
	}
	group.Wait()
	for i := range out.Choices {
		out.CostPerHour += out.Choices[i].CostPerHour
	}
	out.CostPerHour = round(out.CostPerHour)
	out.index()
	return out
}

// choice is where a workload goes, with the verdicts on every other site.
func (s *search) choice(w Workload) Choice {
	o := s.chosen[w.Name]
	c := Choice{Workload: w.Name, Site: o.room.site.Name, Zone: o.room.zone, Host: o.room.host, Size: o.size, CostPerHour: o.cost}
	for _, v := range s.verdicts(w) {
		if v.Site != c.Site {
			c.Elsewhere = append(c.Elsewhere, v)
		}
	}
	c.Reasons = s.reasons(w, o, c.Elsewhere)
	return c
}

// reasons says why a workload is where it is: the rules that hold there, and how its cost compares.
func (s *search) reasons(w Workload, o option, elsewhere []Verdict) []string {
	var out []string
	for _, r := range s.p.Rules {
		if !r.covers(w.Node) {
			continue
		}
		if r.Apart != "" {
			out = append(out, fmt.Sprintf("rule %s: at most %d at one %s%s", r.Name, s.limit[w.Node][r.Apart], r.Apart, because(r)))
			continue
		}
		out = append(out, fmt.Sprintf("rule %s holds here%s", r.Name, because(r)))
	}
	return append(out, compared(o, elsewhere), fmt.Sprintf("takes %s of %s", o.take, o.room.name()))
}

// compared says how the chosen cost stands among the sites that could take the workload too.
func compared(o option, elsewhere []Verdict) string {
	fits, cheaper := 0, 0
	for _, v := range elsewhere {
		if v.Fits {
			fits++
		}
		if v.Fits && v.CostPerHour < o.cost {
			cheaper++
		}
	}
	switch {
	case fits == 0:
		return "no other site can take it"
	case cheaper == 0:
		return fmt.Sprintf("the cheapest of the %d sites that can take it", fits+1)
	}
	return fmt.Sprintf("%d sites can take it; %d cheaper, held for other workloads when this one was placed", fits+1, cheaper)
}

func (r *room) name() string {
	if r.host != "" {
		return fmt.Sprintf("zone %s, %s", r.zone, r.host)
	}
	return "zone " + r.zone
}

// verdicts judges the workload at every site, given what is placed now.
func (s *search) verdicts(w Workload) []Verdict {
	var out []Verdict
	for _, site := range s.p.Estate.Sites {
		out = append(out, s.verdict(w, site))
	}
	return out
}

func (s *search) verdict(w Workload, site *estate.Site) Verdict {
	if why := s.excluded(w, site); why != "" {
		return Verdict{Site: site.Name, Reason: why}
	}
	full, apart := 0, ""
	var most estate.Capacity
	for _, r := range s.rooms {
		if r.site != site {
			continue
		}
		o, ok := fit(w, r)
		if !ok {
			full++
			if r.free.Cores > most.Cores {
				most = r.free
			}
			continue
		}
		if scope := s.crowded(w, r); scope != "" {
			apart = scope
			continue
		}
		return Verdict{Site: site.Name, Fits: true, CostPerHour: o.cost, Reason: s.difference(w, o.cost)}
	}
	if apart != "" {
		return Verdict{Site: site.Name, Reason: fmt.Sprintf("kept apart: the %s holds as many of %s as it may", apart, w.Node)}
	}
	return Verdict{Site: site.Name, Reason: fmt.Sprintf("full: at most %s in one place, needs %s", most, w.Need)}
}

// difference says how a cost compares with the chosen one.
func (s *search) difference(w Workload, cost float64) string {
	o, ok := s.chosen[w.Name]
	if !ok {
		return "fits"
	}
	switch d := cost - o.cost; {
	case d > 1e-9:
		return fmt.Sprintf("fits, %.3f %s/h more", d, s.p.Estate.Currency)
	case d < -1e-9:
		return fmt.Sprintf("fits, %.3f %s/h less", -d, s.p.Estate.Currency)
	}
	return "fits, at the same cost"
}
