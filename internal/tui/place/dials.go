package place

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/cost"
	"andamio/internal/core/estate"
	"andamio/internal/core/money"
	"andamio/internal/core/placement"
	"andamio/internal/tui/view"
)

// dial is something that can be turned: a question of the selected node, a weight, or how instances are paid for.
type dial struct {
	word, value string
	yes         bool
	question    string
	weight      *float64
	usual       float64
	unit        bool
	level       bool
}

// dials are those of the selected row; weights is a copy to read from, and to change.
func (v *View) dials() ([]dial, *placement.Weights) {
	weights := v.now.Problem.Weights
	var out []dial
	if r := v.row(); r != nil {
		for _, q := range v.draft.Rules.Questions {
			d := dial{word: q.Word, question: q.Name, value: "no", yes: v.answers(r)[q.Name]}
			if d.yes {
				d.value = "yes"
			}
			out = append(out, d)
		}
	}
	for _, w := range []struct {
		word  string
		value *float64
		usual float64
	}{{"cost", &weights.Cost, placement.Usual.Cost}, {"latency", &weights.Latency, placement.Usual.Latency},
		{"spread", &weights.Spread, placement.Usual.Spread}, {"keep where it is", &weights.Keep, placement.Usual.Keep}} {
		out = append(out, dial{word: w.word, value: times(*w.value / w.usual), weight: w.value, usual: w.usual})
	}
	pay := v.now.Choices.Payment
	if pay == "" {
		pay = estate.Hourly
	}
	out = append(out, dial{word: "paid", value: string(pay)})
	if len(v.draft.Levels()) > 0 {
		out = append(out, dial{word: "service level", value: cmp.Or(v.now.Choices.Level, "none"), yes: v.now.Choices.Level != "", level: true})
	}
	return append(out, dial{word: "is the currency shown", value: v.unit(), unit: true}), &weights
}

// unit is the currency that costs are shown in.
func (v *View) unit() string {
	if v.shownIn == "" {
		return v.currency()
	}
	return v.shownIn
}

// money is an amount of the internal unit in the currency shown.
func (v *View) money(x money.Amount) money.Amount {
	if got, _, err := cost.In(v.now.Problem.Estate, x, v.shownIn); err == nil {
		return got
	}
	return x
}

// turnUnit shows costs in the next currency that the estate knows; the internal unit is the first.
func (v *View) turnUnit(by int) {
	known := append([]string{""}, slices.Sorted(maps.Keys(v.now.Problem.Estate.Currencies))...)
	at := max(slices.Index(known, v.shownIn), 0)
	v.shownIn = known[(at+by+len(known))%len(known)]
}

func times(x float64) string { return fmt.Sprintf("×%g", x) }

// answers are those of a row's node: the template's, with what was chosen.
func (v *View) answers(r *row) map[string]bool {
	for i := range v.now.Problem.Workloads {
		if w := &v.now.Problem.Workloads[i]; w.Node == r.node {
			out := maps.Clone(w.Answers)
			if out == nil {
				out = map[string]bool{}
			}
			maps.Copy(out, v.now.Choices.Answers[r.node])
			return out
		}
	}
	return nil
}

// steps are what a weight is turned through, times the usual.
var steps = []float64{0, 0.1, 0.25, 0.5, 1, 2, 4, 10, 40}

// stepDial selects the dial before or after.
func (v *View) stepDial(key string) tea.Cmd {
	dials, _ := v.dials()
	_, dy := view.Way(key)
	v.dial = min(max(v.dial+dy, 0), len(dials)-1)
	return nil
}

// turnDial turns the selected dial down or up; a question it answers the other way.
func (v *View) turnDial(key string) tea.Cmd {
	dials, weights := v.dials()
	v.dial = min(v.dial, len(dials)-1)
	d, by := dials[v.dial], 1
	if dx, _ := view.Way(key); dx < 0 || key == "-" {
		by = -1
	}
	switch {
	case d.question != "":
		return v.answer(d.question, !d.yes)
	case d.weight != nil:
		return v.turn(d, weights, by)
	case d.unit:
		v.turnUnit(by)
		return nil
	case d.level:
		return v.turnLevel(by)
	}
	return v.pay(by)
}

// answer answers a question of the selected node.
func (v *View) answer(question string, yes bool) tea.Cmd {
	node := v.row().node
	return v.choose(v.now.Choices.Answered(node, question, yes, v.templateAnswer(node, question) == yes))
}

// templateAnswer is how the template itself answers.
func (v *View) templateAnswer(node, question string) bool {
	given, chosen := v.draft.Choices.Answers[node][question]
	for i := range v.draft.Problem.Workloads {
		if w := &v.draft.Problem.Workloads[i]; w.Node == node {
			if chosen && w.Answers[question] == given { // what was accepted hides what the template said
				return !given
			}
			return w.Answers[question]
		}
	}
	return false
}

// turn changes a weight by a step.
func (v *View) turn(d dial, weights *placement.Weights, by int) tea.Cmd {
	at := slices.IndexFunc(steps, func(s float64) bool { return s >= *d.weight/d.usual-1e-9 })
	if at < 0 {
		at = len(steps) - 1
	}
	*d.weight = steps[min(max(at+by, 0), len(steps)-1)] * d.usual
	c := v.now.Choices
	if c.Weights = weights; *weights == placement.Usual {
		c.Weights = nil
	}
	return v.choose(c)
}

// turnLevel chooses the next service level; the first is none.
func (v *View) turnLevel(by int) tea.Cmd {
	names := []string{""}
	for _, l := range v.draft.Levels() {
		names = append(names, l.Name)
	}
	c := v.now.Choices
	at := max(slices.Index(names, c.Level), 0)
	c.Level = names[(at+by+len(names))%len(names)]
	return v.choose(c)
}

// pay changes how instances are paid for.
func (v *View) pay(by int) tea.Cmd {
	c := v.now.Choices
	at := max(slices.Index(estate.Payments, c.Payment), 0)
	c.Payment = estate.Payments[(at+by+len(estate.Payments))%len(estate.Payments)]
	if c.Payment == estate.Hourly {
		c.Payment = ""
	}
	return v.choose(c)
}
