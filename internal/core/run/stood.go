package run

import "andamio/internal/core/plan"

// Stood is the state of a plan whose steps were all done, but for those that are not sure to be.
func Stood(p *plan.Plan, unsure map[string]bool) *State {
	s := New(p)
	for i := range s.Steps {
		st := &s.Steps[i]
		if unsure[st.ID] {
			s.set(st, Failed)
			st.Error = "it was begun and did not end well"
			continue
		}
		s.set(st, Standing)
	}
	s.Status = Standing
	return s
}
