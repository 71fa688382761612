// Package timeline arranges the steps of a run over time, in lanes, for screens and drawings alike.
//
// In goes a [run.State] and the time; out come lanes with bars: what ran, what runs, what is forecast, and which of it
// decides the duration.
package timeline

import (
	"cmp"
	"slices"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/run"
)

// Timeline is a run over time. Times are since its start.
type Timeline struct {
	Lanes []Lane
	Now   time.Duration
	// End is when the last bar ends.
	End         time.Duration
	Begun, Over bool
}

// Lane is a line of bars.
type Lane struct {
	Name string
	Bars []Bar
}

// Bar is one step, or several that follow or overlap each other in the same state.
type Bar struct {
	From, To time.Duration
	Status   run.Status
	Critical bool
}

// New arranges a state in at most most lanes. What sites build has a lane for each kind, software one for each node;
// where those are too many, one for each service, or for each layer.
func New(s *run.State, now time.Time, most int) *Timeline {
	bars, end := s.Forecast(now)
	t := &Timeline{End: end, Begun: !s.Started.IsZero(), Over: s.Over()}
	if t.Begun {
		t.Now = now.Sub(s.Started)
	}
	for _, name := range []func(*run.State, *run.Step) string{byNode, byService, byLayer} {
		t.Lanes = lanes(s, bars, name)
		if len(t.Lanes) <= most {
			return t
		}
	}
	t.Lanes = t.Lanes[:max(most, 0)]
	return t
}

// plurals name the lanes of what sites build.
var plurals = map[kinds.Kind]string{kinds.Network: "networks", kinds.Volume: "volumes", kinds.Instance: "instances",
	kinds.Interface: "interfaces", kinds.Endpoint: "endpoints", kinds.Object: "packages", kinds.Snapshot: "snapshots"}

func byNode(s *run.State, st *run.Step) string {
	r := s.Resource(st.Resource)
	if name := plurals[r.Kind]; name != "" {
		return name
	}
	return r.Node
}

func byService(s *run.State, st *run.Step) string {
	r := s.Resource(st.Resource)
	if name := plurals[r.Kind]; name != "" {
		return name
	}
	if r.Service != "" {
		return r.Service
	}
	return "software"
}

func byLayer(s *run.State, st *run.Step) string {
	switch s.Resource(st.Resource).Kind {
	case kinds.Software:
		return "software"
	case kinds.Endpoint:
		return "endpoints"
	}
	return "sites build"
}

// lanes gathers the steps' bars under names, in the order in which the lanes begin in the plan.
func lanes(s *run.State, bars []run.Bar, name func(*run.State, *run.Step) string) []Lane {
	at := map[string]int{}
	var out []Lane
	var first []float64
	for i := range s.Steps {
		st := &s.Steps[i]
		if bars[i].To <= bars[i].From && st.Status == run.Held {
			continue
		}
		n := name(s, st)
		j, ok := at[n]
		if !ok {
			j = len(out)
			at[n] = j
			out = append(out, Lane{Name: n})
			first = append(first, st.Start)
		}
		first[j] = min(first[j], st.Start)
		out[j].Bars = append(out[j].Bars, Bar{bars[i].From, bars[i].To, st.Status, st.Critical})
	}
	order := make([]int, len(out))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(first[a], first[b]) })
	sorted := make([]Lane, len(out))
	for i, j := range order {
		sorted[i] = Lane{out[j].Name, merge(out[j].Bars)}
	}
	return sorted
}

// weight orders bars for drawing: what is drawn later covers what was drawn before. What is done of the critical path
// shows over what else goes on, and a failure over everything.
func weight(b Bar) int {
	w := 0
	switch b.Status {
	case run.Standing:
		w = 2
	case run.Stopped:
		w = 4
	case run.UnderWay:
		w = 6
	case run.Failed:
		w = 18
	}
	if b.Critical {
		w += 5
	}
	return w
}

// merge joins bars of one kind that touch, so that thousands of steps draw as few.
func merge(bars []Bar) []Bar {
	slices.SortStableFunc(bars, func(a, b Bar) int {
		return cmp.Or(cmp.Compare(weight(a), weight(b)), cmp.Compare(a.From, b.From))
	})
	var out []Bar
	for _, b := range bars {
		if n := len(out); n > 0 && out[n-1].Status == b.Status && out[n-1].Critical == b.Critical && b.From <= out[n-1].To {
			out[n-1].To = max(out[n-1].To, b.To)
			continue
		}
		out = append(out, b)
	}
	return out
}

// Tick is a round distance for at most n marks on an axis of that length.
func Tick(length time.Duration, n int) time.Duration {
	for _, s := range []int{1, 2, 5, 10, 15, 20, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 43200} {
		if t := time.Duration(s) * time.Second; length/t < time.Duration(max(n, 1)) {
			return t
		}
	}
	return 24 * time.Hour
}
