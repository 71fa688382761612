package reconcile

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/inventory"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reconcile"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// settle asks before the choices are done, with their effect; without choices it marks the selected finding.
func (v *View) settle() tea.Cmd {
	if len(v.chosen) == 0 {
		if v.at < len(v.rows) && v.rows[v.at].finding < 0 {
			t := v.rows[v.at].group
			v.folded[t] = !v.folded[t]
			v.list()
			return nil
		}
		return v.mark()
	}
	if v.effectErr != nil {
		return view.Cmd(view.Failed(v.effectErr))
	}
	if v.effect == nil {
		return view.Cmd(view.Notice{Text: "what it would do is being worked out"})
	}
	s := v.effect
	return view.Cmd(view.Confirm{Act: view.Action{Name: fmt.Sprintf("settle %d findings", len(s.Items)), Effect: effectText(s), Type: s.MustType(), Do: func() tea.Cmd { return v.do(s) }}})
}

// mostItems bounds what of a settling is spelt out.
const mostItems = 8

func effectText(s *reconcile.Settling) string {
	var out []string
	for i, x := range s.Items {
		if i == mostItems {
			out = append(out, fmt.Sprintf("and %d more", len(s.Items)-mostItems))
			break
		}
		out = append(out, fmt.Sprintf("%s %s · %s", x.Finding.Type, x.Finding.Name, x.Effect))
	}
	out = append(out, "")
	if steps, secs := s.Effort(); steps > 0 {
		out = append(out, fmt.Sprintf("Sites are changed by %s of %d steps, about %s; Deploy shows it.", plans(len(s.Orders)), steps, part.Clock(time.Duration(secs*1e9))))
	} else {
		out = append(out, "No site is changed.")
	}
	if lost := plan.Losing(s.Plans()...); lost != "" {
		return strings.Join(append(out, lost+" Undoing does not bring it back."), "\n")
	}
	return strings.Join(append(out, "u undoes it."), "\n")
}

func plans(n int) string {
	if n == 1 {
		return "a plan"
	}
	return fmt.Sprintf("%d plans", n)
}

func (v *View) do(s *reconcile.Settling) tea.Cmd {
	clear(v.chosen)
	v.effect, v.effectKey = nil, ""
	return func() tea.Msg {
		act, runs, err := v.app.Settle(v.ctx, s)
		text := fmt.Sprintf("act %d: %d findings settled; u undoes it", act, len(s.Items))
		if len(runs) > 0 {
			text = fmt.Sprintf("act %d: run %d is under way, 4 Deploy shows it; u undoes it", act, runs[0])
		}
		return settled{act: act, runs: len(runs), text: text, err: err}
	}
}

func (v *View) done(msg settled) tea.Cmd {
	if msg.err != nil {
		return tea.Batch(v.compare(), view.Cmd(view.Failed(msg.err)))
	}
	cmds := []tea.Cmd{v.compare(), view.Cmd(view.Notice{Text: msg.text})}
	switch len(msg.orders) {
	case 0:
	case 1: // what it changed at sites is undone by a plan, which is shown first
		cmds = append(cmds, view.Cmd(view.OpenOrder{Order: msg.orders[0]}), view.Cmd(view.Goto{Digit: "4"}))
	default:
		cmds = append(cmds, v.askPlans(msg.orders))
	}
	return tea.Batch(cmds...)
}

// askPlans asks before several plans are begun together, with what each is for.
func (v *View) askPlans(orders []deployments.Order) tea.Cmd {
	var lines []string
	for _, o := range orders {
		lines = append(lines, fmt.Sprintf("%s · %s: %s, about %s", o.Plan.Name, o.Plan.Purpose, printable.Count(len(o.Plan.Steps), "step"), part.Clock(time.Duration(o.Plan.Seconds*1e9))))
	}
	return view.Cmd(view.Confirm{Act: view.Action{Name: "undo at the sites", Effect: strings.Join(lines, "\n"), Do: func() tea.Cmd {
		return func() tea.Msg {
			for i, o := range orders {
				if _, err := v.app.Begin(v.ctx, o); err != nil {
					return settled{err: fmt.Errorf("%d of %d plans were begun: %w", i, len(orders), err)}
				}
			}
			return settled{text: fmt.Sprintf("%d plans are under way, 4 Deploy shows them", len(orders))}
		}
	}}})
}

// ignore asks for a reason, with an end where one is given: "REASON until 2027-01-31".
func (v *View) ignore(all []*inventory.Finding) tea.Cmd {
	var choices []reconcile.Choice
	for _, f := range all {
		choices = append(choices, reconcile.Choice{Finding: *f, Way: inventory.Ignore})
	}
	inv := v.inv
	what := all[0].Name
	if len(all) > 1 {
		what = fmt.Sprintf("%d findings", len(all))
	}
	return view.Cmd(view.Prompt{Act: view.Action{Name: "ignore " + what, Ask: "why, and until when: REASON until 2027-01-31",
		Effect: "It is not shown as long as it stays what it is; a further change is another finding. Without a day it is ignored for good. u undoes it.",
		Wrong:  func(text string) string { _, _, wrong := reasonOf(text); return wrong },
		Answer: func(text string) tea.Cmd {
			reason, until, _ := reasonOf(text)
			return func() tea.Msg {
				s, err := v.app.Settling(v.ctx, inv, choices, reason, until)
				if err != nil {
					return settled{err: err}
				}
				act, _, err := v.app.Settle(v.ctx, s)
				return settled{act: act, err: err, text: fmt.Sprintf("act %d: %s is ignored; u undoes it", act, what)}
			}
		}}})
}

// reasonOf reads a reason with an end.
func reasonOf(text string) (reason string, until time.Time, wrong string) {
	reason, day, ends := strings.Cut(text, " until ")
	if reason = strings.TrimSpace(reason); reason == "" {
		return "", until, "a reason is needed: somebody will ask"
	}
	if !ends {
		return reason, until, ""
	}
	until, err := time.Parse("2006-01-02", strings.TrimSpace(day))
	if err != nil {
		return reason, until, "a day is written as 2027-01-31"
	}
	return reason, until, ""
}

// undo takes back the last act that was not undone.
func (v *View) undo() tea.Cmd {
	return func() tea.Msg {
		acts, err := v.app.Settlements(v.ctx, 20)
		if err != nil {
			return view.Failed(err)
		}
		for _, a := range acts {
			if a.Undone {
				continue
			}
			return view.Confirm{Act: view.Action{Name: fmt.Sprintf("undo act %d", a.ID), Effect: undoText(a), Do: func() tea.Cmd { return v.takeBack(a.ID) }}}
		}
		return view.Notice{Text: "nothing was settled that could be undone"}
	}
}

func undoText(a reconcile.Settlement) string {
	var names []string
	for _, i := range a.Items {
		names = append(names, fmt.Sprintf("%s (%s)", i.Effect, wordOf(i.Way)))
	}
	text := fmt.Sprintf("%s by %s: %s.", a.At.Local().Format("2 January 15:04"), a.Who, strings.Join(names[:min(len(names), 5)], "; "))
	if len(a.Runs) > 0 {
		text += " What it changed at sites is undone by a plan, which is shown first."
	}
	return text + " Records are what they were before it."
}

func (v *View) takeBack(id int64) tea.Cmd {
	return func() tea.Msg {
		orders, err := v.app.Undo(v.ctx, id)
		return settled{orders: orders, err: err, text: fmt.Sprintf("act %d is undone", id)}
	}
}

// survey surveys all sites.
func (v *View) survey() tea.Cmd {
	if v.surveying > 0 {
		v.stop()
		return view.Cmd(view.Notice{Text: "the survey is being stopped; the next one goes on where it was"})
	}
	v.surveying = 1
	ctx, stop := context.WithCancel(v.ctx)
	v.stop = stop
	return func() tea.Msg {
		defer stop()
		all, errs := v.app.SurveyAll(ctx, false, nil)
		out := surveyed{n: len(all)}
		ruled, err := v.app.SettleByRules(v.ctx)
		if err != nil {
			out.failed = append(out.failed, err.Error())
		}
		for _, n := range ruled {
			out.ruled += n
		}
		for i, s := range all {
			if s.State != app.SurveyDone || errs[i] != nil {
				out.failed = append(out.failed, s.Site)
			}
		}
		return out
	}
}

// Actions are what can be done here.
func (v *View) Actions() []view.Action {
	if v.world.open {
		return v.world.acts()
	}
	var out []view.Action
	if f := v.finding(); f != nil {
		for _, w := range f.Ways {
			out = append(out, view.Action{Name: wordOf(w), Effect: about(f, w), Do: func() tea.Cmd { return v.choose(w) }})
		}
		out = append(out, view.Action{Name: "settle all like this so", Effect: "marks every finding of the same sort, class and attributes; enter shows what that would do", Do: v.markLike})
	}
	return append(out, view.Action{Name: "survey all sites", Effect: "lists everything that is there; changes nothing", Do: v.survey},
		view.Action{Name: "undo the last act", Effect: "asks first", Do: v.undo})
}

// about says in a line what a way means for a finding.
func about(f *inventory.Finding, w inventory.Way) string {
	switch w {
	case inventory.Adopt:
		if f.Type == inventory.Unmanaged {
			return "record it as it is; nothing at the site changes"
		}
		return "declare what the site has from now on; nothing at the site changes"
	case inventory.CorrectRecord:
		return "the record follows; nothing at the site changes"
	case inventory.CorrectSite:
		if f.Type == inventory.Missing {
			return "build it again as declared, by a plan"
		}
		return "make the site what counts, by a plan"
	case inventory.Retire:
		if f.Type == inventory.Unmanaged || f.Type == inventory.Duplicate && !f.OtherRecorded {
			return "remove it from the site, by a plan"
		}
		return "give it up: declared and recorded no more"
	case inventory.Same:
		return "one record for both"
	case inventory.Apart:
		return "each by itself"
	}
	return "asks for a reason and an end"
}
