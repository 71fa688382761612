package run

import (
	"maps"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Apply takes the next event of the journal into account. Events that were applied before, or name what the plan does
// not have, change nothing.
func (s *State) Apply(e Event) {
	if e.Seq != 0 && e.Seq <= s.LastSeq {
		return
	}
	s.LastSeq, s.LastAt = e.Seq, e.At
	switch e.Kind {
	case RunStarted:
		s.Status, s.Started = UnderWay, e.At
		s.Rehearsed = Rehearsed{durationOf(e.Attributes["p50"]), durationOf(e.Attributes["p90"])}
	case RunResumed:
		s.resume()
	case RunEnded:
		s.end(e)
	case SiteSays, Answered, Learned:
		s.learn(e)
	case Sized, Changed, RoundBegun, Copied, RoundDone, Judged:
		s.copying(e)
	default:
		s.step(e)
	}
}

func durationOf(text string) time.Duration {
	d, _ := time.ParseDuration(text)
	return d
}

// resume makes everything open again that was broken off; what failed stays so until somebody decides.
func (s *State) resume() {
	s.Status, s.Ended, s.Text, s.Outputs = UnderWay, time.Time{}, "", nil
	s.Resumes++
	for i := range s.Steps {
		if st := &s.Steps[i]; st.Status == UnderWay || st.Status == Stopped {
			st.Error = ""
			s.set(st, Planned)
		}
	}
	s.holdAgain()
}

// holdAgain works out anew what is held.
func (s *State) holdAgain() {
	for i := range s.Steps {
		if st := &s.Steps[i]; st.Status == Held {
			s.set(st, Planned)
		}
	}
	for i := range s.Steps {
		if st := &s.Steps[i]; st.Status == Failed {
			s.hold(st)
		}
	}
}

// The decisions on a step that failed.
const (
	Retry = "retry"
	Skip  = "skip"
)

func (s *State) decide(st *Step, verb string) {
	if st.Status != Failed && st.Status != Stopped {
		return
	}
	switch verb {
	case Retry:
		st.Error = ""
		s.set(st, Planned)
	case Skip:
		st.Skipped = true
		s.set(st, Passed)
	}
	s.holdAgain()
}

func (s *State) end(e Event) {
	s.Ended, s.Text, s.Outputs = e.At, e.Text, e.Attributes
	switch {
	case e.Good:
		s.Status = Standing
	case s.Failures > 0 && s.interrupted == 0:
		s.Status = Failed
	default:
		s.Status = Stopped
	}
}

func (s *State) learn(e Event) {
	r := s.Resource(e.Resource)
	if r == nil {
		return
	}
	switch e.Kind {
	case SiteSays:
		r.SiteSaid = Reading{e.Text, e.Good, e.At}
	case Answered:
		r.Answer = Reading{e.Text, e.Good, e.At}
	case Learned:
		if r.Attributes == nil {
			r.Attributes = map[string]string{}
		}
		maps.Copy(r.Attributes, e.Attributes)
	}
}

func (s *State) step(e Event) {
	st := s.Step(e.Step)
	if st == nil {
		return
	}
	switch e.Kind {
	case StepStarted:
		st.Started, st.Ended = e.At, time.Time{}
		s.set(st, UnderWay)
	case StepAsked:
		s.learn(Event{Kind: Learned, Resource: st.Resource, Attributes: e.Attributes})
		for _, id := range e.Attributes {
			st.AskedID = id
		}
	case Discarded:
		st.AskedID = ""
		st.Discards++
		st.log(Line{e.At, "thrown away: " + e.Text})
	case Decided:
		st.log(Line{e.At, "decided: " + e.Text})
		if !st.Control.take(e.Text) {
			s.decide(st, e.Text)
		}
	case StepRetry:
		st.Retries++
		st.log(Line{e.At, "again: " + e.Text})
	case StepAwaits:
		st.Awaits = e.Text
		if st.log(Line{e.At, e.Text}); e.Good {
			st.Awaits = ""
		}
	case StepDone:
		st.Ended = e.At
		s.set(st, Standing)
	case StepPassed:
		st.Ended = e.At
		st.log(Line{e.At, e.Text})
		s.set(st, Passed)
	case StepFailed:
		st.Ended, st.Error = e.At, e.Text
		st.Tries++
		st.log(Line{e.At, e.Text})
		s.set(st, Failed)
		s.hold(st)
	case StepStopped:
		st.Ended, st.Error = e.At, e.Text
		s.set(st, Stopped)
	case Logged:
		st.log(Line{e.At, e.Text})
	}
}

func (st *Step) log(l Line) {
	if len(st.Log) >= maxLines {
		st.Log = append(st.Log[:0], st.Log[len(st.Log)-maxLines/2:]...)
	}
	st.Log = append(st.Log, l)
}

// hold marks every step that waits, directly or through others, for a failed one. Steps that a failure calls for, and
// what waits for them alone, are not held.
func (s *State) hold(failed *Step) {
	blocked := map[string]bool{failed.ID: true}
	for i := range s.Steps { // sorted by level: what a step waits for comes before it
		st := &s.Steps[i]
		if st.Status != Planned {
			continue
		}
		for _, a := range st.After {
			if blocked[a] {
				blocked[st.ID] = true
				s.set(st, Held)
				break
			}
		}
	}
}

// set changes a step's status and with it its resource's.
func (s *State) set(st *Step, to Status) {
	r := s.Resource(st.Resource)
	r.count(st.Status, -1)
	s.tally(st.Status, -1)
	st.Status, st.Awaits = to, ""
	r.count(to, 1)
	s.tally(to, 1)
	switch {
	case r.bad > 0:
		r.Status = Failed
	case r.done == len(r.steps) && r.Change == plan.Retire:
		r.Status = Retired
	case r.done == len(r.steps):
		r.Status = Standing
	case r.busy > 0:
		r.Status = UnderWay
	case r.held > 0:
		r.Status = Held
	case r.done > 0:
		r.Status = UnderWay
	default:
		r.Status = Planned
	}
	if to == Standing {
		s.dropped(st)
	}
}

// dropped notes of resources that have no step of their own that what they were went with a step of another: software
// with the instance it ran on.
func (s *State) dropped(st *Step) {
	for _, id := range st.Drops {
		r := s.Resource(op.ResourceOf(id))
		switch {
		case r == nil || len(r.steps) > 0:
		case r.Change == plan.Retire:
			r.Status = Retired
		default:
			r.Status = Passed
		}
	}
}

func (s *State) tally(status Status, n int) {
	switch status {
	case Standing, Passed:
		s.Done += n
	case Failed:
		s.Failures += n
	case Stopped:
		s.interrupted += n
	}
}

func (r *Resource) count(status Status, n int) {
	switch status {
	case Standing, Passed:
		r.done += n
	case Failed, Stopped:
		r.bad += n
	case UnderWay:
		r.busy += n
	case Held:
		r.held += n
	}
}
