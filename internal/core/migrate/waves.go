package migrate

import (
	"cmp"
	"slices"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
)

// Candidate is a workload that is to be moved in some wave.
type Candidate struct {
	Instance string
	// Way is what it shares with others that take it: from which site to which.
	Way string
	// Seconds is how long it takes alone, Down for how long it does not serve.
	Seconds, Down float64
	// Needs are other candidates that it is served by.
	Needs []string
}

// Wave is what is moved together.
type Wave struct {
	Instances []string `json:"instances"`
	// Seconds is how long the wave takes: that of the way which is used longest.
	Seconds float64 `json:"seconds"`
	// TooLong says that it does not fit a window by itself.
	TooLong bool `json:"too_long,omitempty"`
}

// Waves arranges workloads into waves that each fit a window of some seconds, 0 for one without end. What is needed moves
// before what needs it, or with it; groups are never torn apart. What takes the same way shares it, so that its times add
// up; ways beside each other do not get longer by each other.
func Waves(all []Candidate, groups [][]string, window float64) []Wave {
	units := unite(all, groups)
	rank(units)
	slices.SortStableFunc(units, func(a, b *unit) int { return cmp.Or(a.rank-b.rank, cmp.Compare(a.names[0], b.names[0])) })
	var filled []*filling
	for _, u := range units {
		earliest := 0
		for _, n := range u.needs {
			earliest = max(earliest, n.wave)
		}
		u.wave = len(filled)
		for i := earliest; i < len(filled) && u.wave == len(filled); i++ {
			if filled[i].takes(u, window) {
				u.wave = i
			}
		}
		if u.wave == len(filled) {
			filled = append(filled, &filling{ways: map[string]float64{}})
		}
		filled[u.wave].add(u)
	}
	out := make([]Wave, len(filled))
	for i, f := range filled {
		seconds := longest(f.ways)
		out[i] = Wave{f.names, seconds, window > 0 && seconds > window}
	}
	return out
}

// filling is a wave that is being filled: how long each way is used.
type filling struct {
	names []string
	ways  map[string]float64
}

// takes reports that a unit still fits a window.
func (f *filling) takes(u *unit, window float64) bool {
	for way, s := range u.ways {
		if window > 0 && f.ways[way]+s > window {
			return false
		}
	}
	return true
}

func (f *filling) add(u *unit) {
	f.names = append(f.names, u.names...)
	for way, s := range u.ways {
		f.ways[way] += s
	}
}

func longest(ways map[string]float64) float64 {
	most := 0.0
	for _, s := range ways {
		most = max(most, s)
	}
	return most
}

// unit is what cannot be torn apart: how long it uses each way, and the wave that it is in.
type unit struct {
	names []string
	ways  map[string]float64
	needs []*unit // each once, in the order in which they are told: where they go in a circle, which is cut depends on it
	rank  int
	wave  int
	seen  bool
}

// unite puts groups together; groups that share a workload are one.
func unite(all []Candidate, groups [][]string) []*unit {
	of := map[string]*unit{}
	var units []*unit
	for _, c := range all {
		of[c.Instance] = &unit{names: []string{c.Instance}, ways: map[string]float64{c.Way: c.Seconds}}
		units = append(units, of[c.Instance])
	}
	for _, g := range groups {
		var into *unit
		for _, name := range g {
			u := of[name]
			switch {
			case u == nil || u == into:
			case into == nil:
				into = u
			default:
				into.names = append(into.names, u.names...)
				for way, s := range u.ways {
					into.ways[way] += s
				}
				for _, n := range u.names {
					of[n] = into
				}
				units = slices.DeleteFunc(units, func(x *unit) bool { return x == u })
			}
		}
	}
	for _, c := range all {
		for _, n := range c.Needs {
			if u, other := of[c.Instance], of[n]; other != nil && other != u && !slices.Contains(u.needs, other) {
				u.needs = append(u.needs, other)
			}
		}
	}
	for _, u := range units {
		slices.Sort(u.names)
	}
	return units
}

// rank gives each unit a higher rank than those it needs; circles are cut where they are met.
func rank(units []*unit) {
	var visit func(*unit) int
	visit = func(u *unit) int {
		if u.seen {
			return u.rank
		}
		u.seen = true
		for _, n := range u.needs {
			u.rank = max(u.rank, visit(n)+1)
		}
		return u.rank
	}
	for _, u := range units {
		visit(u)
	}
}

// Needs are, of some instances, those by which each is served, through the software on them.
func Needs(p *plan.Plan, instances []string) map[string][]string {
	out := map[string][]string{}
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind != kinds.Software || !slices.Contains(instances, r.On) {
			continue
		}
		for _, on := range r.StandsOn {
			if other := p.Resource(on); other != nil && other.Kind == kinds.Software && other.On != r.On && slices.Contains(instances, other.On) && !slices.Contains(out[r.On], other.On) {
				out[r.On] = append(out[r.On], other.On)
			}
		}
	}
	return out
}
