package migrate

import (
	"andamio/internal/core/plan"
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
	op plan.Op
	in Phase
}{{plan.Create, Preparing}, {plan.Replicate, Copying}, {plan.Follow, Following}, {plan.Carry, Cutting}}

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
		st := s.Step(instance + "/" + string(p.op))
		switch {
		case st == nil:
		case st.Status == run.Standing || st.Status == run.Passed:
			last = p.in
			if p.op == plan.Follow {
				last = Cutting
			}
		case st.Status == run.UnderWay:
			if p.op == plan.Follow && st.Copying.Await && !st.Control.Cut && IsReady(s, instance) {
				return Ready
			}
			return p.in
		}
	}
	if st := s.Step(instance + "/" + string(plan.Carry)); st != nil && st.Status == run.Standing {
		return There
	}
	if last == Preparing && s.Step(instance+"/"+string(plan.Replicate)) == nil {
		return Cutting // a cold one stands still from the first
	}
	return last
}

// IsReady reports that what is left of a workload may be copied while it stands still.
func IsReady(s *run.State, instance string) bool {
	judged := s.Judged[instance]
	st := s.Step(instance + "/" + string(plan.Follow))
	if len(judged) == 0 || st == nil {
		return false
	}
	return st.Copying.Pause == 0 || judged[len(judged)-1].Pause <= st.Copying.Pause
}
