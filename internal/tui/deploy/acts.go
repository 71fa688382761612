package deploy

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// effect says what running the order on screen does.
func (v *View) effect() string {
	p := v.order.Plan
	took := part.Clock(time.Duration(p.Seconds * float64(time.Second)))
	if v.answer.P90 > 0 {
		took = fmt.Sprintf("%s, nine in ten under %s", part.Clock(v.answer.P50), part.Clock(v.answer.P90))
	}
	if p.Purpose == "" {
		return fmt.Sprintf("builds %s at %s in %s, expected to take %s; costs %.3f %s/h from then on",
			printable.Count(len(p.Resources), "resource"), printable.Count(len(p.Sites), "site"), printable.Count(len(p.Steps), "step"), took, p.CostPerHour, p.Currency)
	}
	return fmt.Sprintf("%s: %s, in %s, expected to take %s; costs %.3f %s/h from then on%s%s", p.Purpose, counted(p), printable.Count(len(p.Steps), "step"), took,
		p.CostPerHour, p.Currency, promising(p), losing(p))
}

// promising says what a plan has be promised, after what was said before.
func promising(p *plan.Plan) string {
	if lines := p.Promised.Lines(p.Currency); lines != nil {
		return ". From then on " + strings.Join(lines, "; ")
	}
	return ""
}

// losing says whose data a plan takes away, after what was said before.
func losing(p *plan.Plan) string {
	if text := plan.Losing(p); text != "" {
		return ". " + strings.TrimSuffix(text, ".")
	}
	return ""
}

// counted says how many resources of a plan are built, changed, rebuilt, retired and kept.
func counted(p *plan.Plan) string {
	n := map[plan.Change]int{}
	for i := range p.Resources {
		n[p.Resources[i].Change]++
	}
	var out []string
	for _, c := range []plan.Change{plan.Build, plan.Amend, plan.Rebuild, plan.Retire, plan.Keep} {
		if n[c] > 0 {
			out = append(out, fmt.Sprintf("%d %s", n[c], c))
		}
	}
	return strings.Join(out, ", ")
}

// mustType is what must be typed before an order is run that takes something away: the deployment's name.
func (v *View) mustType() string {
	for i := range v.order.Plan.Resources {
		if c := v.order.Plan.Resources[i].Change; c == plan.Retire || c == plan.Rebuild {
			return v.order.Plan.Name
		}
	}
	if len(v.order.Plan.Losses()) > 0 {
		return v.order.Plan.Name
	}
	return ""
}

// waiting are the failed steps of a run that wait for a person: of one that is not under way any more, or of a branch
// that is held while others go on.
func (v *View) waiting() []*run.Step {
	if v.state == nil || v.runID == 0 || v.state.Failures == 0 || v.left() {
		return nil
	}
	var out []*run.Step
	for i := range v.state.Steps {
		if st := &v.state.Steps[i]; st.Status == run.Failed {
			out = append(out, st)
		}
	}
	return out
}

func (v *View) stored() (app.Run, bool) {
	for _, r := range v.runs {
		if r.ID == v.runID {
			return r, true
		}
	}
	return app.Run{}, false
}

// left reports that a person settled what failed.
func (v *View) left() bool { r, ok := v.stored(); return ok && r.Left }

// chosen is the failed step that the queue stands at.
func (v *View) chosenStep() *run.Step {
	all := v.waiting()
	if len(all) == 0 {
		return nil
	}
	return all[min(v.held, len(all)-1)]
}

// asking is a step under way whose site did not take a call and is asked again later: one of the selected plank, else any.
func (v *View) asking() *run.Step {
	if v.state == nil || v.runID == 0 || v.state.Over() {
		return nil
	}
	var first *run.Step
	for i := range v.state.Steps {
		st := &v.state.Steps[i]
		if st.Status != run.UnderWay || st.Retries == 0 {
			continue
		}
		if v.state.Plan.Plank(st.Resource) == v.elevation.Selected {
			return st
		}
		if first == nil {
			first = st
		}
	}
	return first
}

// askNow has its site be asked at once.
func (v *View) askNow() tea.Cmd {
	st, id := v.asking(), v.runID
	if st == nil {
		return nil
	}
	step := st.ID
	return v.doing("asked again: "+step, func() error { return v.app.Decide(v.ctx, id, step, run.Retry) })
}

// decide retries or skips the chosen step.
func (v *View) decide(verb string) tea.Cmd {
	st, id := v.chosenStep(), v.runID
	if st == nil {
		return nil
	}
	step := st.ID
	return v.doing(fmt.Sprintf("%s: %s", verb, step), func() error { return v.app.Decide(v.ctx, id, step, verb) })
}

// doing does something and says so; what it brings about arrives with the run's events.
func (v *View) doing(text string, do func() error) tea.Cmd {
	return func() tea.Msg {
		if err := do(); err != nil {
			return view.Failed(err)
		}
		return view.Notice{Text: text}
	}
}

// confirmSkip asks before a step is skipped: what stands on it goes on without it.
func (v *View) confirmSkip() tea.Cmd {
	st := v.chosenStep()
	over := 0
	for i := range v.state.Steps {
		if v.state.Steps[i].Status == run.Held {
			over++
		}
	}
	return view.Cmd(view.Confirm{Act: view.Action{Name: "skip " + st.ID,
		Effect: fmt.Sprintf("it is left undone, and what waits for it goes on (held: %s); a later change does it again", printable.Count(over, "step")),
		Do:     func() tea.Cmd { return v.decide(run.Skip) }}})
}

// compile works an order out beside the screen and shows it.
func (v *View) compile(make func() (deployments.Order, error)) tea.Cmd {
	return func() tea.Msg {
		o, err := make()
		if err != nil {
			return view.Failed(err)
		}
		if len(o.Plan.Steps) == 0 {
			return view.Notice{Text: "it stands as it is wanted: nothing is to be done"}
		}
		return view.OpenOrder{Order: o}
	}
}

// Actions are what can be done to the plan or run.
func (v *View) Actions() []view.Action {
	switch {
	case v.state == nil:
		return nil
	case v.order != nil:
		acts := []view.Action{{Name: "run this plan", Effect: "asks once more, with what it costs", Do: v.begin}}
		if v.proposal != nil {
			acts[0].Name = fmt.Sprintf("confirm proposal %d", v.proposal.ID)
			acts = append(acts, view.Action{Name: fmt.Sprintf("withdraw proposal %d", v.proposal.ID), Effect: "nobody can confirm it any more; nothing is built", Do: v.withdraw})
		} else {
			acts = append(acts, view.Action{Name: "propose it", Effect: "begins nothing: it waits in Today for somebody to confirm it, as long as what it was worked out from is as it was", Do: v.propose})
		}
		return append(acts, view.Action{Name: "back to the design", Effect: "nothing is built", Do: func() tea.Cmd { return view.Cmd(view.Goto{Digit: "2"}) }})
	}
	acts := v.decisions()
	r, known := v.stored()
	switch {
	case !v.state.Over() && !v.silent:
		return append(acts, view.Action{Name: fmt.Sprintf("cancel run %d", v.runID), Type: v.state.Plan.Name,
			Effect: "begins no further step and interrupts those under way; what stands stays, and the journal says how far each got",
			Do:     v.cancel})
	case v.state.Status != run.Standing:
		acts = append(acts, view.Action{Name: fmt.Sprintf("go on with run %d", v.runID),
			Effect: "looks at the sites for what was begun before anything is asked for again, and tries again what failed",
			Do: func() tea.Cmd {
				id := v.runID
				return v.doing(fmt.Sprintf("run %d goes on", id), func() error { return v.app.Resume(v.ctx, id) })
			}})
	}
	if known {
		acts = append(acts, view.Action{Name: fmt.Sprintf("roll back run %d", v.runID), Effect: "shows the plan that leads back to what stood before it; nothing is done before you say so",
			Do: func() tea.Cmd {
				id := v.runID
				return v.compile(func() (deployments.Order, error) { return v.app.RollingBack(v.ctx, id) })
			}}, v.changeInput(r.Deployment))
	}
	return append(acts, view.Action{Name: "plan again", Effect: "goes to the design; nothing is built before you say so",
		Do: func() tea.Cmd { return view.Cmd(view.Goto{Digit: "2"}) }})
}

// decisions are the acts on what waits for a person.
func (v *View) decisions() []view.Action {
	st := v.chosenStep()
	if st == nil {
		return nil
	}
	acts := []view.Action{{Name: "retry " + st.ID, Effect: "does it again, and what waits for it after", Do: func() tea.Cmd { return v.decide(run.Retry) }},
		{Name: "skip " + st.ID, Effect: "goes on without it; a later change does it again", Do: v.confirmSkip}}
	if v.state.Over() {
		id := v.runID
		acts = append(acts, view.Action{Name: "leave it as it is", Effect: "what failed stays as it is and needs nobody any more; what stands stands",
			Do: func() tea.Cmd {
				return v.doing(fmt.Sprintf("run %d is left as it is", id), func() error { return v.app.Leave(v.ctx, id) })
			}})
	}
	return acts
}

// changeInput asks for an input and shows the plan that leads from what stands to the design with it.
func (v *View) changeInput(deployment int64) view.Action {
	return view.Action{Name: "change an input and go on", Effect: "shows the plan from what stands to the design with that input",
		Ask: "NAME=VALUE", Answer: func(text string) tea.Cmd {
			return v.compile(func() (deployments.Order, error) { return v.app.ChangingInput(v.ctx, deployment, text) })
		}, Wrong: func(text string) string {
			if !strings.Contains(text, "=") {
				return "an input is given as NAME=VALUE"
			}
			return ""
		}}
}
