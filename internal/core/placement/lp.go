package placement

import (
	"bufio"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"
)

// WriteLP writes the exact model of a problem in the LP text format that solvers of mixed integer programs read. Its
// optimum is the best objective there is.
//
// Variables: x_W_R_O is 1 where workload W (by its place in the problem) is in room R (by its place among all rooms of the
// estate) in its O-th option; y_E_A_B is 1 where the ends of traffic E are at the sites A and B; z_G_P is by how many place
// P exceeds the limit of a preference to keep apart. Comments name them.
func WriteLP(out io.Writer, p Problem) error {
	p = p.weighted()
	m, err := newModel(&p)
	if err != nil {
		return err
	}
	w := &lp{Writer: bufio.NewWriter(out), m: m, byPlace: map[scope][][][]string{}}
	w.names()
	w.objective()
	w.line("Subject To")
	w.assignment()
	w.capacities()
	w.groups()
	w.together()
	w.pairs()
	w.budget()
	w.kinds()
	w.line("End")
	return w.Flush()
}

// lp writes one model.
type lp struct {
	*bufio.Writer
	m *model
	// byPlace are the variables of each workload at each place of a scope.
	byPlace map[scope][][][]string
}

func (w *lp) line(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

// each calls f for every variable of a workload: an option in a room that can take it.
func (w *lp) each(wl int, f func(name string, o *option, room int32)) {
	m := w.m
	c := m.classes[m.class[wl]]
	for i := range c.opts {
		o := &c.opts[i]
		for _, r := range m.roomsOf[o.site] {
			if c.admits(&m.rooms[r]) && fits(m.rooms[r].free, o.take) {
				f("x_"+strconv.Itoa(wl)+"_"+strconv.Itoa(int(r))+"_"+strconv.Itoa(i), o, r)
			}
		}
	}
}

func (w *lp) names() {
	for i := range w.m.p.Workloads {
		w.line("\\ workload %d: %s", i, strings.Map(plainRune, w.m.p.Workloads[i].Name))
	}
	for i, r := range w.m.rooms {
		w.line("\\ room %d: %s, %s", i, strings.Map(plainRune, w.m.sites[r.site].Name), strings.Map(plainRune, r.info.Name()))
	}
}

func plainRune(r rune) rune {
	if r < ' ' || r > '~' {
		return '?'
	}
	return r
}

// term writes a term of a sum, a few of them a line.
func (w *lp) term(n *int, c float64, name string) {
	if *n%8 == 7 {
		w.WriteString("\n ")
	}
	*n++
	if c >= 0 {
		w.WriteString(" + ")
	} else {
		w.WriteString(" - ")
	}
	if a := math.Abs(c); a != 1 {
		w.WriteString(strconv.FormatFloat(a, 'g', 12, 64))
		w.WriteByte(' ')
	}
	w.WriteString(name)
}

// talks reports whether an edge adds anything to the model.
func (e *edge) talks() bool { return e.ab != 0 || e.ba != 0 || e.wait != 0 || e.most > 0 }

func pair(e int, a, b int32) string { return fmt.Sprintf("y_%d_%d_%d", e, a, b) }

func (w *lp) objective() {
	w.line("Minimize\n obj:")
	n := 0
	for i := range w.m.p.Workloads {
		w.each(i, func(name string, o *option, _ int32) { w.term(&n, o.c, name) })
	}
	w.eachPair(func(e int, a, b int32, q float64) {
		if q != 0 {
			w.term(&n, q, pair(e, a, b))
		}
	})
	for g := range w.m.groups {
		if gr := &w.m.groups[g]; gr.weight > 0 {
			for at := range w.m.places(gr.scope) {
				w.term(&n, gr.weight, fmt.Sprintf("z_%d_%d", g, at))
			}
		}
	}
	if n == 0 { // solvers read no objective of nothing
		w.WriteString(" 0 none")
	}
	w.line("")
}

// eachPair calls f for the pairs of sites that the ends of each edge may be at.
func (w *lp) eachPair(f func(e int, a, b int32, q float64)) {
	S := int32(len(w.m.sites))
	for i := range w.m.edges {
		e := &w.m.edges[i]
		if !e.talks() {
			continue
		}
		for a := range S {
			for b := range S {
				if q := w.m.between(e, a, b); !math.IsInf(q, 1) && w.may(e.a, a) && w.may(e.b, b) {
					f(i, a, b, q)
				}
			}
		}
	}
}

func (w *lp) may(wl, site int32) bool {
	c := w.m.classes[w.m.class[wl]]
	return c.lo[site] < c.lo[site+1]
}

func (w *lp) assignment() {
	if len(w.m.p.Workloads) == 0 { // solvers read no model without a row
		w.line(" nothing: none = 0")
	}
	for i := range w.m.p.Workloads {
		fmt.Fprintf(w, " one_%d:", i)
		n := 0
		w.each(i, func(name string, _ *option, _ int32) { w.term(&n, 1, name) })
		if n == 0 { // it may be nowhere: the model has no solution, as it should
			fmt.Fprintf(w, " nowhere_%d", i)
		}
		w.line(" = 1")
	}
}

// capacities writes what rooms and accounts hold.
func (w *lp) capacities() {
	m := w.m
	rooms, quotas := map[[2]int][]string{}, map[[2]int][]string{}
	for i := range m.p.Workloads {
		w.each(i, func(name string, o *option, r int32) {
			for d, take := range o.take {
				if take == 0 {
					continue
				}
				text := strconv.FormatFloat(take, 'g', 12, 64) + " " + name
				if d < m.roomDims {
					rooms[[2]int{int(r), d}] = append(rooms[[2]int{int(r), d}], text)
				}
				if !math.IsInf(m.quota[int(o.site)*len(m.dims)+d], 1) {
					quotas[[2]int{int(o.site), d}] = append(quotas[[2]int{int(o.site), d}], text)
				}
			}
		})
	}
	for r := range m.rooms {
		for d := range m.roomDims {
			w.atMost(fmt.Sprintf("room_%d_%d", r, d), rooms[[2]int{r, d}], m.rooms[r].free[d])
		}
	}
	for s := range m.sites {
		for d := range m.dims {
			w.atMost(fmt.Sprintf("quota_%d_%d", s, d), quotas[[2]int{s, d}], m.quota[s*len(m.dims)+d])
		}
	}
}

func (w *lp) atMost(name string, terms []string, limit float64) {
	if len(terms) > 0 {
		w.line(" %s: %s <= %s", name, joined(terms, " + "), strconv.FormatFloat(limit, 'g', 12, 64))
	}
}

// joined is a sum over several lines.
func joined(terms []string, sign string) string {
	var b strings.Builder
	for i, t := range terms {
		switch {
		case i == 0:
		case i%8 == 0:
			b.WriteString("\n " + sign)
		default:
			b.WriteString(sign)
		}
		b.WriteString(t)
	}
	return b.String()
}

// at are the variables of each workload at each place of a scope.
func (w *lp) at(s scope) [][][]string {
	if got := w.byPlace[s]; got != nil {
		return got
	}
	out := make([][][]string, len(w.m.p.Workloads))
	for i := range out {
		out[i] = make([][]string, w.m.places(s))
		w.each(i, func(name string, _ *option, r int32) {
			at := w.m.place(s, r)
			out[i][at] = append(out[i][at], name)
		})
	}
	w.byPlace[s] = out
	return out
}

func (w *lp) groups() {
	for g := range w.m.groups {
		gr := &w.m.groups[g]
		at := w.at(gr.scope)
		for place := range w.m.places(gr.scope) {
			var terms []string
			for _, wl := range gr.members {
				terms = append(terms, at[wl][place]...)
			}
			if len(terms) == 0 {
				continue
			}
			if gr.weight > 0 {
				terms[len(terms)-1] += fmt.Sprintf(" - z_%d_%d", g, place)
			}
			w.atMost(fmt.Sprintf("apart_%d_%d", g, place), terms, float64(gr.most))
		}
	}
}

func (w *lp) together() {
	for u := range w.m.units {
		un := &w.m.units[u]
		if len(un.members) < 2 {
			continue
		}
		at := w.at(un.scope)
		for k, wl := range un.members[1:] {
			for place := range w.m.places(un.scope) {
				w.equal(fmt.Sprintf("together_%d_%d_%d", u, k, place), at[un.members[0]][place], at[wl][place])
			}
		}
	}
}

// equal writes that two sums are the same.
func (w *lp) equal(name string, a, b []string) {
	if len(a)+len(b) == 0 {
		return
	}
	fmt.Fprintf(w, " %s:", name)
	n := 0
	for _, t := range a {
		w.term(&n, 1, t)
	}
	for _, t := range b {
		w.term(&n, -1, t)
	}
	w.line(" = 0")
}

// pairs ties what passes between two workloads to where they are.
func (w *lp) pairs() {
	ends := map[[3]int][]string{}
	w.eachPair(func(e int, a, b int32, _ float64) {
		ends[[3]int{e, 0, int(a)}] = append(ends[[3]int{e, 0, int(a)}], pair(e, a, b))
		ends[[3]int{e, 1, int(b)}] = append(ends[[3]int{e, 1, int(b)}], pair(e, a, b))
	})
	for i := range w.m.edges {
		e := &w.m.edges[i]
		if !e.talks() {
			continue
		}
		at := w.at(perSite)
		for s := range w.m.sites {
			w.equal(fmt.Sprintf("from_%d_%d", i, s), at[e.a][s], ends[[3]int{i, 0, s}])
			w.equal(fmt.Sprintf("to_%d_%d", i, s), at[e.b][s], ends[[3]int{i, 1, s}])
		}
		if e.most > 0 {
			w.zonesApart(i, e)
		}
	}
}

// zonesApart forbids two zones of a site to two workloads that must be nearer to each other.
func (w *lp) zonesApart(i int, e *edge) {
	m := w.m
	at := w.at(perZone)
	zones := map[int32]*room{}
	for r := range m.rooms {
		zones[m.rooms[r].zone] = &m.rooms[r]
	}
	for a := range int32(m.zones) {
		for b := range int32(m.zones) {
			if a == b || zones[a].site != zones[b].site || m.sites[zones[a].site].ZoneMs(zones[a].info.Zone, zones[b].info.Zone) <= e.most+slack {
				continue
			}
			if len(at[e.a][a]) > 0 && len(at[e.b][b]) > 0 {
				w.atMost(fmt.Sprintf("near_%d_%d_%d", i, a, b), append(clone(at[e.a][a]), at[e.b][b]...), 1)
			}
		}
	}
}

func (w *lp) budget() {
	m := w.m
	if m.p.Budget <= 0 {
		return
	}
	var terms []string
	for i := range m.p.Workloads {
		w.each(i, func(name string, o *option, _ int32) {
			terms = append(terms, strconv.FormatFloat(o.cost.total(), 'g', 12, 64)+" "+name)
		})
	}
	w.eachPair(func(e int, a, b int32, _ float64) {
		if x := m.passes(&m.edges[e], a, b); x > 0 {
			terms = append(terms, strconv.FormatFloat(x, 'g', 12, 64)+" "+pair(e, a, b))
		}
	})
	w.atMost("budget", terms, m.p.Budget)
}

// kinds says which variables are whole; what only one solution can make true needs no more than a bound.
func (w *lp) kinds() {
	w.line("Bounds")
	for i := range w.m.p.Workloads {
		n := 0
		w.each(i, func(string, *option, int32) { n++ })
		if n == 0 {
			w.line(" nowhere_%d <= 0", i)
		}
	}
	n := 0
	for i := range w.m.p.Workloads {
		w.each(i, func(name string, _ *option, _ int32) {
			if n++; n == 1 { // nor do they read a section of nothing
				w.line("Binaries")
			}
			w.line(" %s", name)
		})
	}
}
