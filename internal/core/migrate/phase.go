package migrate

import (
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// Phase is how far a workload has come on its way.
type Phase string

// The phases, in their order.
const (
	Waiting   Phase = "waiting"
	Preparing Phase = "preparing"
	Copying   Phase = "first copy"
	Following Phase = "rounds"
	Ready     Phase = "ready to cut over"
	Cutting   Phase = "cutting over"
	There     Phase = "serves there"
	Broken    Phase = "broken off"
)

// phases are the operations that lead from one phase to the next.
var phases = []struct {
	op op.Op
	in Phase
}{{op.Create, Preparing}, {op.Replicate, Copying}, {op.Follow, Following}, {op.Carry, Cutting}}

// PhaseOf says how far a workload has come in the run that moves it.
func PhaseOf(s *run.State, instance string) Phase {
	last := Waiting
	for i := range s.Steps {
		st := &s.Steps[i]
		if st.Resource == instance && (st.Status == run.Failed || st.Status == run.Stopped) {
			return Broken
		}
	}
	for _, p := range phases {
		st := s.Step(p.op.On(instance))
		switch {
		case st == nil:
		case st.Status == run.Standing || st.Status == run.Passed:
			last = p.in
			if p.op == op.Follow {
				last = Cutting
			}
		case st.Status == run.UnderWay:
			if p.op == op.Follow && st.Copying.Await && !st.Control.Cut && IsReady(s, instance) {
				return Ready
			}
			return p.in
		}
	}
	if st := s.Step(op.Carry.On(instance)); st != nil && st.Status == run.Standing {
		return There
	}
	if last == Preparing && s.Step(op.Replicate.On(instance)) == nil {
		return Cutting // a cold one stands still from the first
	}
	return last
}

// IsReady reports that what is left of a workload may be copied while it stands still.
func IsReady(s *run.State, instance string) bool {
	judged := s.Judged[instance]
	st := s.Step(op.Follow.On(instance))
	if len(judged) == 0 || st == nil {
		return false
	}
	return st.Copying.Pause == 0 || judged[len(judged)-1].Pause <= st.Copying.Pause
}
