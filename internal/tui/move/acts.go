package move

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/tui/view"
)

// cutOver tells the rounds to end.
func (v *View) cutOver() tea.Cmd {
	m := v.shown()
	if m.States[m.Current()] != moves.WaveMoving {
		return view.Cmd(view.Notice{Text: fmt.Sprintf("it is %s: there is nothing to cut over", m.States[m.Current()]), Bad: true})
	}
	act := view.Action{Name: "cut over", Effect: v.cutEffect(), Do: func() tea.Cmd {
		return func() tea.Msg { return done{text: "told to cut over", err: v.app.CutOver(v.ctx, m.ID)} }
	}}
	return view.Cmd(view.Confirm{Act: act})
}

// cutEffect says what cutting over now does.
func (v *View) cutEffect() string {
	pause := 0.0
	for _, id := range v.workloads() {
		if j := v.state.Judged[id]; len(j) > 0 {
			pause = max(pause, j[len(j)-1].Pause)
		}
	}
	return fmt.Sprintf("It stops where it is, what is left is copied in about %.1f s, it starts there, and its names follow. Until it is committed you can go back.", pause)
}

// rest pauses copying, or lets it go on.
func (v *View) rest() tea.Cmd {
	m := v.shown()
	verb := run.Pause
	if v.paused() {
		verb = run.GoOn
	}
	return func() tea.Msg { return done{text: "told to " + verb, err: v.app.Steer(v.ctx, m.ID, verb)} }
}

func (v *View) paused() bool {
	if v.state == nil {
		return false
	}
	for i := range v.state.Steps {
		if st := &v.state.Steps[i]; st.Control.Paused && st.Status != run.Standing {
			return true
		}
	}
	return false
}

// goBack shows what going back does, and does it when that is confirmed.
func (v *View) goBack() tea.Cmd {
	m, wave := v.shown(), v.shown().Current()
	return func() tea.Msg {
		effect := "What stands there is taken away; nothing stops where it is."
		o, err := v.app.DraftBack(v.ctx, m.ID, wave)
		switch {
		case err != nil && m.States[wave] != moves.WaveMoving:
			return done{err: err}
		case err == nil:
			effect = backEffect(o.Plan)
		}
		return view.Confirm{Act: view.Action{Name: "go back", Effect: effect, Do: func() tea.Cmd {
			return func() tea.Msg {
				_, err := v.app.GoBack(v.ctx, m.ID, wave)
				return done{text: "going back", err: err}
			}
		}}}
	}
}

// backEffect says what a plan that goes back does.
func backEffect(p *plan.Plan) string {
	var parts []string
	has := func(op op.Op) bool {
		for i := range p.Steps {
			if p.Steps[i].Op == op {
				return true
			}
		}
		return false
	}
	if has(op.Finish) {
		parts = append(parts, "what was written there since is copied back")
	}
	parts = append(parts, "what stands there is taken away")
	if has(op.Boot) {
		parts = append(parts, "it starts again where it was")
	}
	if has(op.Name) {
		parts = append(parts, "its names return")
	}
	text := strings.Join(parts, ", ")
	return strings.ToUpper(text[:1]) + text[1:] + fmt.Sprintf(": %s, about %.0f s.", printable.Count(len(p.Steps), "step"), p.Seconds)
}

// commit shows what committing takes away, and does it when the deployment's name is typed.
func (v *View) commit() tea.Cmd {
	m, wave := v.shown(), v.shown().Current()
	return func() tea.Msg {
		o, err := v.app.DraftCommit(v.ctx, m.ID, wave)
		if err != nil {
			return done{err: err}
		}
		var gone []string
		for i := range o.Plan.Resources {
			if r := &o.Plan.Resources[i]; r.Change == plan.Retire {
				gone = append(gone, r.ID)
			}
		}
		effect := fmt.Sprintf("Takes away %s. There is no going back from then on. %s", strings.Join(gone, ", "), plan.Losing(o.Plan))
		return view.Confirm{Act: view.Action{Name: "commit", Effect: effect, Type: v.nameOf(m), Do: func() tea.Cmd {
			return func() tea.Msg {
				_, err := v.app.Commit(v.ctx, m.ID, wave)
				return done{text: "being committed", err: err}
			}
		}}}
	}
}

func (v *View) nameOf(m *moves.Move) string {
	for i := range v.deployments {
		if v.deployments[i].ID == m.Deployment {
			return v.deployments[i].Name
		}
	}
	return m.Name
}

// next drafts the next wave of the move that is shown, or goes on with one that broke off.
func (v *View) next() tea.Cmd {
	m := v.shown()
	wave := m.Current()
	if n := v.failures(); n > 0 && m.States[wave] == moves.WaveMoving {
		id := m.There(wave)
		return func() tea.Msg {
			return done{text: fmt.Sprintf("%d that failed are tried again", n), err: v.app.Decide(v.ctx, id, "", run.Retry)}
		}
	}
	switch m.States[wave] {
	case moves.WaveBroken:
		id, _ := m.Run(wave)
		return func() tea.Msg { return done{text: "it goes on", err: v.app.Resume(v.ctx, id)} }
	case moves.WavePlanned, moves.WaveBack:
		v.drafting = true
		return func() tea.Msg {
			draft, err := v.app.DraftWave(v.ctx, m.ID, wave)
			return startWave{draft, err}
		}
	}
	return view.Cmd(view.Notice{Text: fmt.Sprintf("wave %d is %s", wave+1, m.States[wave])})
}

// cutting reports that all workloads of what is shown are being cut over, or are there.
func (v *View) cutting() bool {
	return v.state != nil && !slices.ContainsFunc(v.workloads(), func(id string) bool {
		phase := migrate.PhaseOf(v.state, id)
		return phase != migrate.Cutting && phase != migrate.There
	})
}

// failures is how many steps of what is shown have failed and wait for somebody.
func (v *View) failures() int {
	if v.state == nil {
		return 0
	}
	return v.state.Failures
}

// startWave is a further wave that was worked out and is to be begun.
type startWave struct {
	draft *moves.Draft
	err   error
}

// Find selects a workload by its name.
func (v *View) Find(text string) bool {
	if v.shown() == nil && v.draft == nil {
		for i, r := range v.rows {
			if strings.Contains(r.id, text) {
				v.cursor, v.focus = i, onSources
				return true
			}
		}
		return false
	}
	for i, id := range v.workloads() {
		if strings.Contains(id, text) {
			v.pick = i
			return true
		}
	}
	return false
}

// Why explains what is selected.
func (v *View) Why() view.Note {
	id := v.selected()
	if id == "" {
		return view.Note{Title: "Moving", Lines: []view.Line{view.Say("A workload is copied while it runs, round after round of what changed."),
			view.Say("When it is told to cut over it stops, what is left is copied and verified, it starts where it goes, and its names follow."),
			view.Say("Where it was it is kept, switched off, until the move is committed. Until then it can go back.")}}
	}
	n := view.Note{Title: "Why " + id + " goes as it does"}
	if v.state != nil {
		n.Lines = append(n.Lines, view.Head("now"), view.Say(string(migrate.PhaseOf(v.state, id))))
		if j := v.state.Judged[id]; len(j) > 0 && !v.cutting() {
			last := j[len(j)-1]
			n.Lines = append(n.Lines, view.Say(fmt.Sprintf("%.1f MB a second change and %.1f MB a second get through: after round %d it would stand still for %.2f s",
				last.Changing/1e6, last.Bandwidth/1e6, last.Round, last.Pause)))
		}
		for i := range v.state.Steps {
			if st := &v.state.Steps[i]; st.Resource == id && st.Error != "" {
				n.Lines = append(n.Lines, view.Head(st.Title), view.Say(st.Error))
			}
		}
	}
	if v.draft != nil && v.shown() == nil {
		f, l := v.draft.Forecasts[id], v.draft.Loads[id]
		n.Lines = append(n.Lines, view.Head("how long"), view.Say(fmt.Sprintf("%.1f MB are on its disks; %.2f MB a second change, %.1f MB a second get through: %d rounds, about %.0f s; not serving for about %.1f s",
			float64(l.Used)/1e6, l.Rate/1e6, l.Bandwidth/1e6, len(f.Rounds), f.Copy, f.Down)))
		if !f.Converges {
			n.Lines = append(n.Lines, view.Say("It does not converge: more changes than gets through, or than it may stand still for."))
		}
	}
	return view.Note{Title: n.Title, Lines: append(n.Lines, v.differenceLines(id)...)}
}

// differenceLines list all that is otherwise where a workload goes, and why that matters.
func (v *View) differenceLines(id string) []view.Line {
	var all []migrate.Difference
	if m := v.shown(); m != nil {
		all = m.Differences
	} else if v.draft != nil {
		all = v.draft.Differences
	}
	out := []view.Line{view.Head("what will be otherwise")}
	for _, d := range all {
		if d.Instance != id {
			continue
		}
		text := fmt.Sprintf("%s: %s, there %s", d.What, d.Here, d.There)
		if d.Why != "" {
			text += " (" + d.Why + ")"
		}
		out = append(out, view.Say(text))
	}
	return out
}

// Actions are what can be done.
func (v *View) Actions() []view.Action {
	m := v.shown()
	if m == nil {
		return nil
	}
	var out []view.Action
	act := func(name, effect string, do func() tea.Cmd) {
		out = append(out, view.Action{Name: name, Effect: effect, Do: do})
	}
	switch m.States[m.Current()] {
	case moves.WaveMoving:
		act("cut over", "The rounds end, it stops, and starts there.", v.cutOver)
		act("go back", "The move is stopped where it is.", v.goBack)
		out = append(out, view.Action{Name: "limit", Effect: "Bounds how much is copied in a second.", Ask: "megabytes a second, 0 for no limit",
			Answer: func(text string) tea.Cmd {
				return func() tea.Msg {
					var mb float64
					if _, err := fmt.Sscan(text, &mb); err != nil || mb < 0 {
						return done{err: fmt.Errorf("%q is no number of megabytes", text)}
					}
					return done{text: "the limit is set", err: v.app.Steer(v.ctx, m.ID, fmt.Sprintf("%s%d", run.LimitTo, int64(mb*1e6)))}
				}
			}})
	case moves.WaveMoved:
		act("go back", "It serves again where it was.", v.goBack)
		act("commit", "What was kept is taken away.", v.commit)
	}
	return out
}

// Export writes the chart and the run-book.
func (v *View) Export() tea.Cmd {
	id := v.selected()
	if id == "" {
		return nil
	}
	s, load := v.state, v.loadOf(id)
	var p *plan.Plan
	if v.draft != nil && v.shown() == nil {
		p, s = v.draft.Order.Plan, nil
	} else if s != nil {
		p, s = s.Plan, s.Snapshot()
	}
	if p == nil {
		return nil
	}
	return func() tea.Msg { return view.Written(deployments.ExportMove(p, s, id, load, ".")) }
}
