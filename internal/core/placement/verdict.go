package placement

import (
	"fmt"
	"math"
	"strings"

	"andamio/internal/core/estate"
)

// verdicts judges a workload at every site, everything else staying where it is; what must be together moves with it.
func (s *state) verdicts(w int32) []Verdict {
	m := s.m
	u := m.unitOf[w]
	before := s.objective
	was := s.keep(nil, u)
	out := make([]Verdict, len(m.sites))
	s.leave(u)
	for i, site := range m.sites {
		out[i] = s.verdict(w, int32(i), before)
		out[i].Site, out[i].Ms = site.Name, s.farthest(w, int32(i))
	}
	s.back([]int32{u}, was)
	at := s.option(w).site
	o := s.option(w)
	out[at] = Verdict{Site: m.sites[at].Name, Fits: true, CostPerHour: s.costAt(w, o).exact().Total(), Reason: "chosen", Short: "chosen", Ms: out[at].Ms}
	return out
}

// verdict judges a workload, which with its unit has no place now, at a site.
func (s *state) verdict(w, site int32, before float64) Verdict {
	m := s.m
	if ex := m.exclusions(&m.p.Workloads[w], int(site), false); len(ex) > 0 {
		v := Verdict{Reason: ex[0].text, Short: ex[0].short}
		for _, e := range ex {
			if e.rule != "" {
				v.Rules = append(v.Rules, e.rule)
			}
		}
		return v
	}
	u := m.unitOf[w]
	if !s.mayBe(u, site) {
		return s.noRoom(w, site)
	}
	if far, text := s.tooFarFrom(w, site); far != "" {
		return Verdict{Reason: text, Short: far}
	}
	if !s.enter(u, site) {
		return s.noRoom(w, site)
	}
	v := Verdict{Fits: true, CostPerHour: s.costAt(w, s.option(w)).exact().Total(), More: s.objective - before}
	v.Reason = s.difference(v.More, u)
	s.leave(u)
	return v
}

// difference says how much the whole would grow by a move.
func (s *state) difference(more float64, u int32) string {
	text, currency := "fits, at the same cost", s.m.p.Estate.Currency
	switch {
	case more > 5e-7:
		text = fmt.Sprintf("fits, %.3f %s/h more", more, currency)
	case more < -5e-7:
		text = fmt.Sprintf("fits, %.3f %s/h less", -more, currency)
	}
	if n := len(s.m.units[u].members) - 1; n > 0 {
		text += fmt.Sprintf(", with the %d it must be together with", n)
	}
	return text
}

// farthest is the most milliseconds from a site to anything a workload talks to, -1 if to nothing or nobody knows.
func (s *state) farthest(w, site int32) float64 {
	m, most := s.m, -1.0
	for _, i := range m.edgesOf[w] {
		if other := s.room[m.edges[i].other(w)]; other >= 0 {
			most = max(most, m.ms[int(site)*len(m.sites)+int(m.rooms[other].site)])
		}
	}
	for _, e := range m.p.Workloads[w].Ends {
		if end := m.siteNamed(e.Site); end >= 0 {
			most = max(most, m.ms[int(site)*len(m.sites)+end])
		}
	}
	return most
}

// tooFarFrom says whether a site is too far from something that a workload talks to.
func (s *state) tooFarFrom(w, site int32) (short, text string) {
	m := s.m
	for _, i := range m.edgesOf[w] {
		e := &m.edges[i]
		other := s.room[e.other(w)]
		if other < 0 || !math.IsInf(m.fromSide(e, w, site, m.rooms[other].site), 1) {
			continue
		}
		ms := m.ms[int(site)*len(m.sites)+int(m.rooms[other].site)]
		name := m.p.Workloads[e.other(w)].Name
		if ms < 0 {
			return "far?", fmt.Sprintf("how far it is from %s is not known, and it must be within %g ms", name, e.most)
		}
		return fmt.Sprintf("%g ms", ms), fmt.Sprintf("%g ms from %s, and it must be within %g ms", ms, name, e.most)
	}
	return "", ""
}

// noRoom says why a workload that may be at a site does not fit there beside what is placed.
func (s *state) noRoom(w, site int32) Verdict {
	m := s.m
	c := m.classes[m.class[w]]
	D := len(m.dims)
	if c.lo[site] == c.lo[site+1] {
		return s.tooLarge(w, site)
	}
	o := &c.opts[c.lo[site]]
	for d, take := range o.take {
		if left := s.left[int(site)*D+d]; take > left+slack {
			return Verdict{Reason: fmt.Sprintf("quota: %s %s left of the account's, needs %s", amount(left), m.dims[d], amount(take)), Short: "quota"}
		}
	}
	var most estate.Capacity
	crowd := int32(-1)
	for _, r := range m.roomsOf[site] {
		if !c.admits(&m.rooms[r]) {
			continue
		}
		n := m.roomDims
		if fits(s.free[int(r)*n:int(r)*n+n], o.take) {
			if g := s.crowded(w, r); g >= 0 {
				crowd = g
			}
			continue
		}
		if free := s.spare(r); free.Cores >= most.Cores {
			most = free
		}
	}
	if crowd >= 0 {
		g := &m.groups[crowd]
		r := m.p.Rules[g.rule]
		what := g.node
		if what == "" {
			what = "them"
		}
		return Verdict{Reason: fmt.Sprintf("kept apart: the %s holds as many of %s as it may, by rule %s", r.Apart, what, r.Name), Short: "apart", Rules: []string{r.Name}}
	}
	if len(m.units[m.unitOf[w]].members) > 1 {
		return Verdict{Reason: "no room for it and what it must be together with", Short: "full"}
	}
	return Verdict{Reason: fmt.Sprintf("full: at most %s in one place, needs %s", most, o.shape.takes), Short: "full"}
}

func amount(x float64) string {
	return strings.TrimSuffix(strings.TrimRight(fmt.Sprintf("%.1f", max(x, 0)), "0"), ".")
}

// reasons says why a workload is where it is: the rules that hold there, and how its cost compares.
func (s *state) reasons(w int32, c *Choice) []string {
	m := s.m
	wl := &m.p.Workloads[w]
	var out []string
	switch {
	case wl.Pin != nil && wl.Stays:
		out = append(out, "it stands here")
	case wl.Pin != nil:
		out = append(out, "pinned here by hand")
	}
	for _, id := range m.ruleIDs[wl.Node] {
		if r := &m.p.Rules[id]; r.binds(wl) {
			out = append(out, s.held(w, r))
		} else {
			out = append(out, fmt.Sprintf("rule %s is lifted for it", r.Name))
		}
	}
	if wl.Now != nil {
		if wl.Now.Site == c.Site {
			out = append(out, "it runs here already")
		} else {
			out = append(out, "moved from "+wl.Now.Site)
		}
	}
	if len(m.edgesOf[w]) > 0 {
		if ms := s.farthest(w, s.option(w).site); ms >= 0 {
			out = append(out, fmt.Sprintf("at most %g ms from what it talks to, which costs %.3f %s/h", ms, c.Cost.Egress*2, m.p.Estate.Currency))
		}
	}
	r := m.rooms[s.room[w]]
	return append(out, compared(c, m.p.Estate.Currency), fmt.Sprintf("takes %s of %s", c.Takes, r.info.Name()))
}

// held says how a rule holds for a workload where it is.
func (s *state) held(w int32, r *Rule) string {
	switch {
	case r.Together != "":
		return fmt.Sprintf("rule %s: together at one %s%s", r.Name, r.Together, because(*r))
	case r.Apart != "":
		for _, g := range s.m.groupsOf[w] {
			if gr := &s.m.groups[g]; gr.rule >= 0 && s.m.p.Rules[gr.rule].Name == r.Name {
				return fmt.Sprintf("rule %s: at most %d at one %s%s", r.Name, gr.most, r.Apart, because(*r))
			}
		}
		return fmt.Sprintf("rule %s keeps nothing apart: there is nothing else of it%s", r.Name, because(*r))
	case r.Weight > 0 && r.lack(s.m.sites[s.option(w).site]) != "":
		return fmt.Sprintf("preference %s is not met: %s", r.Name, r.lack(s.m.sites[s.option(w).site]))
	case r.Weight > 0:
		return fmt.Sprintf("preference %s is met here%s", r.Name, because(*r))
	}
	return fmt.Sprintf("rule %s holds here%s", r.Name, because(*r))
}

// compared says how the choice stands among the sites that could take the workload too.
func compared(c *Choice, currency string) string {
	fits, cheaper, least := 0, 0, 0.0
	for _, v := range c.Elsewhere {
		if !v.Fits {
			continue
		}
		fits++
		if v.CostPerHour < c.CostPerHour {
			cheaper++
			if least == 0 || v.More < least {
				least = v.More
			}
		}
	}
	switch {
	case fits == 0:
		return "no other site can take it"
	case cheaper == 0:
		return fmt.Sprintf("the cheapest of the %d sites that can take it", fits+1)
	}
	if least < 0.0005 {
		return fmt.Sprintf("%d sites can take it; %d cheaper by itself, but not for the whole", fits+1, cheaper)
	}
	return fmt.Sprintf("%d sites can take it; %d cheaper by itself, but at least %.3f %s/h worse for the whole", fits+1, cheaper, least, currency)
}
