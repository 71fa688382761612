package run

import (
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Stage is how far a resource is, each stage reached by a check of its own: the site has taken the request, the site
// says that it is ready, its scripts have exited with 0, its endpoint has answered.
type Stage string

// The stages in their order. A resource ends at the last that its kind has.
const (
	NotBegun   Stage = "not begun"
	Accepted   Stage = "accepted"
	Ready      Stage = "ready"
	Configured Stage = "configured"
	Serving    Stage = "serving"
)

// Stage is how far a resource is.
func (s *State) Stage(id string) Stage {
	r := s.Resource(id)
	if r == nil {
		return NotBegun
	}
	out := NotBegun
	if r.Attributes["site.id"] != "" {
		out = Accepted
	}
	scripts, asked := 0, 0
	for _, st := range s.StepsOf(id) {
		if st.Op.Takes() {
			continue
		}
		done := st.Status == Standing || st.Status == Passed
		switch {
		case st.Script != nil && !done:
			scripts++
		case (st.Op == op.Check || st.Op == op.Answer) && !done:
			asked++
		case st.Check.Kind == plan.CheckSite && done && out != Configured && out != Serving:
			out = Ready
		case st.Script != nil && out != Serving:
			out = Configured
		case st.Op == op.Check || st.Op == op.Answer:
			out = Serving
		}
	}
	switch {
	case scripts > 0 && (out == Configured || out == Serving):
		return Ready
	case asked > 0 && out == Serving:
		return Configured
	}
	return out
}
