package migrate

import (
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// Down is for how many seconds the workloads of a move do not serve, by its plan: from the first that is stopped to the
// last that is known to be there.
func Down(p *plan.Plan) float64 {
	first, last := -1.0, 0.0
	for i := range p.Steps {
		s := &p.Steps[i]
		if (s.Op == op.Halt || s.Op == op.Suspend) && (first < 0 || s.Start < first) {
			first = s.Start
		}
		if s.Op == op.Carry {
			last = max(last, s.Start+s.Seconds)
		}
	}
	if first < 0 {
		return 0
	}
	return last - first
}

// WithinWindow is for how many seconds a move goes on from its first copying on, by its plan: what comes before waits for
// no window.
func WithinWindow(p *plan.Plan) float64 {
	first := p.Seconds
	for i := range p.Steps {
		if s := &p.Steps[i]; s.Op == op.Replicate || s.Op == op.Finish {
			first = min(first, s.Start)
		}
	}
	return p.Seconds - first
}

// DownWith is [Down] where the last round of a workload takes so many seconds, instead of as long as the plan expects.
func DownWith(p *plan.Plan, instance string, last float64) float64 {
	out := Down(p)
	if s := p.Step(op.Finish.On(instance)); s != nil {
		out += last - s.Seconds
	}
	return max(out, last)
}

// Rest is for how long a move goes on yet.
type Rest struct {
	// Copy is until it can be cut over, Down from then until it is there.
	Copy, Down time.Duration
}

// Whole is all of it, if it is cut over as soon as it can be.
func (r Rest) Whole() time.Duration { return r.Copy + r.Down }

// RestOf works out for how long the move of a workload goes on yet, by what has got through so far; false if nothing has
// been copied yet that would tell. load is what was measured before it began.
func RestOf(s *run.State, instance string, load Load, now time.Time) (Rest, bool) {
	down := time.Duration(Down(s.Plan) * float64(time.Second))
	switch phase := PhaseOf(s, instance); phase {
	case There:
		return Rest{}, true
	case Cutting:
		if st := s.Step(op.Finish.On(instance)); st != nil && st.Status == run.UnderWay {
			if last, known := lastLeft(s, instance, now); known {
				return Rest{Down: last + afterLast(s.Plan, instance)}, true
			}
		}
		return Rest{Down: max(down-now.Sub(stopped(s)), 0)}, true
	case Ready:
		return Rest{Down: down}, true
	case Copying, Following:
		rest, known := copyLeft(s, instance, load, now)
		return Rest{rest, down}, known
	}
	return Rest{}, false
}

// lastLeft is for how long the last round is copied yet, while the workload stands still.
func lastLeft(s *run.State, instance string, now time.Time) (time.Duration, bool) {
	left, speed := int64(0), 0.0
	for _, d := range disksOf(s, instance) {
		if d.Running {
			left, speed = left+d.Total-d.Done, d.Rate()
		} else if d.Round == 0 {
			left += d.Whole
		}
	}
	if speed <= 0 {
		return 0, false
	}
	return max(time.Duration(float64(left)/speed*float64(time.Second))-max(now.Sub(s.LastAt), 0), 0), true
}

// afterLast is for how long it takes, by the plan, from the last round to when the workload is there.
func afterLast(p *plan.Plan, instance string) time.Duration {
	last, there := p.Step(op.Finish.On(instance)), p.Step(op.Carry.On(instance))
	if last == nil || there == nil {
		return 0
	}
	return time.Duration((there.Start + there.Seconds - last.Start - last.Seconds) * float64(time.Second))
}

// stopped is when the first workload was stopped.
func stopped(s *run.State) time.Time {
	var out time.Time
	for i := range s.Steps {
		st := &s.Steps[i]
		if (st.Op == op.Halt || st.Op == op.Suspend) && !st.Started.IsZero() && (out.IsZero() || st.Started.Before(out)) {
			out = st.Started
		}
	}
	if out.IsZero() {
		return s.LastAt
	}
	return out
}

// copyLeft is for how long a workload is copied yet before it can be cut over.
func copyLeft(s *run.State, instance string, load Load, now time.Time) (time.Duration, bool) {
	m := measured(s, instance)
	if m.bandwidth <= 0 {
		return 0, false
	}
	load = m.told(load)
	running := float64(m.left) / m.bandwidth
	if since := now.Sub(s.LastAt).Seconds(); since > 0 && since < running { // what got through since was not told yet
		running -= since
	}
	f := Predict(load)
	rest := f.Copy
	if len(f.Rounds) > 0 {
		rest += running - f.Rounds[0].Seconds
	}
	if !m.follows { // the next round has what changed during all of the first copy, not only while the rest of it is copied
		rest += load.Rate * m.since / m.bandwidth
	}
	return time.Duration(max(rest, 0) * float64(time.Second)), true
}

// measure is what a move that goes on tells of itself.
type measure struct {
	// left are the bytes of the round that goes on, and of first copies that were not begun.
	left int64
	// bandwidth is how many bytes a second get through, rate how many change; since is how long ago the first copy began, in
	// seconds.
	bandwidth, rate, since float64
	// follows says that the first copy is over, judged that rounds told the rate.
	follows, judged bool
}

// told is a load with what the move tells in the place of what was measured before it began.
func (m *measure) told(load Load) Load {
	if m.judged || m.rate > 0 {
		load.Rate = m.rate
	}
	if m.bandwidth > 0 {
		load.Bandwidth, load.Squeeze = m.bandwidth, 0
	}
	load.Used = m.left
	return load
}

func measured(s *run.State, instance string) measure {
	var m measure
	done, took := int64(0), 0.0
	for _, d := range disksOf(s, instance) {
		m.rate += d.Changing()
		switch {
		case d.Round <= 1 && d.Running:
			done, took, m.left = done+d.Done, took+d.Took(), m.left+d.Total-d.Done
			m.since += d.Seen.Sub(d.Began).Seconds()
		case d.Round == 0:
			m.left += d.Whole
		case len(d.Past) > 0:
			first := d.Past[0]
			done, took = done+first.Bytes, took+first.Took()
			m.since += first.At.Sub(first.Began).Seconds()
			if d.Running {
				m.follows = true
				m.left += d.Total - d.Done
			}
		}
	}
	if took > 0 {
		m.bandwidth = float64(done) / took
	}
	for _, d := range disksOf(s, instance) {
		if d.Running && d.Round <= 1 && d.Speed > 0 {
			m.bandwidth = d.Speed
		}
	}
	if j := s.Judged[instance]; len(j) > 0 {
		last := j[len(j)-1]
		m.follows, m.judged, m.rate = true, true, last.Changing
		if last.Bandwidth > 0 {
			m.bandwidth = last.Bandwidth
		}
	}
	return m
}
