package templates

import (
	"maps"
	"slices"

	"andamio/internal/core/estate"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/rules"
	"andamio/internal/core/topology"
)

// Choices are what an engineer decided of a placement beside the template. They are values: what changes one leaves the
// others as they were.
type Choices struct {
	// Pins are workloads that must be somewhere, Forbids sites that they must not be at.
	Pins    map[string]placement.Spot `json:"pins,omitempty"`
	Forbids map[string][]string       `json:"forbids,omitempty"`
	// Answers are those to plain questions that differ from the template's, by node.
	Answers map[string]map[string]bool `json:"answers,omitempty"`
	// Weights replace the usual ones; nil keeps them.
	Weights *placement.Weights `json:"weights,omitempty"`
	Payment estate.Payment     `json:"payment"`
	// Level is the service level that it is to have; "" is none.
	Level string `json:"level,omitempty"`
}

// Count is how many choices there are.
func (c Choices) Count() int {
	n := len(c.Pins)
	for _, sites := range c.Forbids {
		n += len(sites)
	}
	for _, answers := range c.Answers {
		n += len(answers)
	}
	if c.Weights != nil {
		n++
	}
	if c.Payment != "" && c.Payment != estate.Hourly {
		n++
	}
	if c.Level != "" {
		n++
	}
	return n
}

// Pinned has workloads pinned to a site, or no longer pinned where they are pinned there all.
func (c Choices) Pinned(workloads []string, site string) Choices {
	pins := orNew(c.Pins)
	off := !slices.ContainsFunc(workloads, func(w string) bool { return pins[w].Site != site })
	for _, w := range workloads {
		if off {
			delete(pins, w)
		} else {
			pins[w] = placement.Spot{Site: site}
		}
	}
	c.Pins = pins
	return c
}

// Forbidden has a site forbidden to workloads, or allowed again where it is forbidden to all of them.
func (c Choices) Forbidden(workloads []string, site string) Choices {
	forbids := orNew(c.Forbids)
	off := !slices.ContainsFunc(workloads, func(w string) bool { return !slices.Contains(forbids[w], site) })
	for _, w := range workloads {
		sites := slices.DeleteFunc(slices.Clone(forbids[w]), func(s string) bool { return s == site })
		if !off {
			sites = append(sites, site)
		}
		if forbids[w] = sites; len(sites) == 0 {
			delete(forbids, w)
		}
	}
	c.Forbids = forbids
	return c
}

// Answered has a question of a node answered; as the template answers it is no choice.
func (c Choices) Answered(node, question string, yes, asTemplate bool) Choices {
	answers := map[string]map[string]bool{}
	for n, given := range c.Answers {
		answers[n] = maps.Clone(given)
	}
	if asTemplate {
		if delete(answers[node], question); len(answers[node]) == 0 {
			delete(answers, node)
		}
	} else {
		if answers[node] == nil {
			answers[node] = map[string]bool{}
		}
		answers[node][question] = yes
	}
	c.Answers = answers
	return c
}

func orNew[V any](m map[string]V) map[string]V {
	if m == nil {
		return map[string]V{}
	}
	return maps.Clone(m)
}

// ProblemOf is the placement problem of a design, under the administrator's rules and with what was chosen.
func ProblemOf(d *topology.Design, e *estate.Estate, w DraftRequest) (*placement.Problem, error) {
	p := plan.Problem(d, e)
	c := w.Choices
	p.Payment = c.Payment
	if c.Weights != nil {
		p.Weights = *c.Weights
	}
	for i := range p.Workloads {
		wl := &p.Workloads[i]
		if spot, ok := c.Pins[wl.Name]; ok {
			wl.Pin = &spot
		}
		wl.Forbid = c.Forbids[wl.Name]
		if given := c.Answers[wl.Node]; len(given) > 0 {
			wl.Answers = orNew(wl.Answers)
			maps.Copy(wl.Answers, given)
		}
	}
	if err := w.keeping(&p); err != nil {
		return nil, err
	}
	file := w.Rules
	if file == nil {
		file = rules.Default()
	}
	return &p, file.Apply(&p, nil)
}

// Siting is a placement with the choices that it was made with, as an alternative to a draft's. Err says why there is none.
type Siting struct {
	Choices   Choices              `json:"choices"`
	Problem   *placement.Problem   `json:"-"`
	Placement *placement.Placement `json:"placement,omitempty"`
	Err       error                `json:"-"`
}

// Siting is the draft's own. What keeps a plan from being compiled of a placement is no fault of that.
func (d *Draft) Siting() *Siting {
	s := &Siting{Choices: d.Choices, Problem: d.Problem, Placement: d.Placement}
	if s.Placement == nil {
		s.Err = d.Err
	}
	return s
}

// Effort of a siting that is only looked at, and of one that is shown.
const (
	Glance = 0.15
	Whole  = 1
)

// Sited places a draft's design with other choices. What need not move stays where like has it.
func (d *Draft) Sited(c Choices, like *placement.Placement, effort float64, stop func() bool) *Siting {
	out := &Siting{Choices: c}
	w := d.wish
	w.Choices, w.Rules = c, d.Rules
	if out.Problem, out.Err = ProblemOf(d.Design, d.Problem.Estate, w); out.Err != nil {
		return out
	}
	if d.Stands != nil {
		w.Like = d.Stands
		w.Keep = w.Kept()
	}
	Stay(out.Problem, w)
	out.Placement, out.Err = solve(out.Problem, placement.Options{Effort: effort, Like: like, Stop: stop})
	return out
}

// Shift is a workload that one placement has elsewhere than another.
type Shift struct {
	Workload string `json:"workload,omitempty"`
	From     string `json:"from,omitempty"`
	To       string `json:"to,omitempty"`
	// More is what it costs more per hour by itself.
	More money.Amount `json:"more"`
}

// Shifts lists the workloads that the second placement has at another site than the first.
func Shifts(a, b *placement.Placement) []Shift {
	var out []Shift
	for i := range b.Choices {
		to := &b.Choices[i]
		if from := a.Choice(to.Workload); from != nil && from.Site != to.Site {
			out = append(out, Shift{to.Workload, from.Site, to.Site, to.CostPerHour - from.CostPerHour})
		}
	}
	return out
}
