// Package place is the Place view: where should it go, and what does the alternative cost? A matrix of workloads and sites
// with what fits, what it costs and what rules it out; beside it why, and what would follow from choosing otherwise.
package place

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/printable"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// View is the Place view.
type View struct {
	draft *templates.Draft
	// now is what is shown: the draft's own placement, or one with other choices; before are the choices it came from, for
	// undoing. other is an alternative kept beside it.
	now    *templates.Siting
	before []templates.Choices
	other  *templates.Siting
	rows   []row
	// shownIn is the currency that totals are shown in; "" is the estate's own unit.
	shownIn string
	// at is the row selected, site the column; dial is the question or weight selected, -1 while the matrix has the keys.
	at, site, dial int
	top            int
	// effect is what choosing the selected cell would come to, once it is known; asked numbers the questions, so that an
	// answer to an old one is not shown.
	effect *templates.Siting
	asked  int
	busy   bool
	spots  []spot
}

// spot is where a cell was drawn.
type spot struct {
	rect      part.Rect
	row, site int
}

// New makes the view.
func New() *View { return &View{dial: -1} }

// Name, Digit and Badge describe the tab.
func (v *View) Name() string  { return "Place" }
func (v *View) Digit() string { return "3" }
func (v *View) Badge(time.Time) string {
	if v.draft != nil && v.changed() > 0 {
		return fmt.Sprint(v.changed())
	}
	return ""
}

// changed is how many choices are not in the plan yet.
func (v *View) changed() int {
	if v.now == nil || v.draft == nil {
		return 0
	}
	if d := v.now.Choices.Count() - v.draft.Choices.Count(); d != 0 {
		return max(d, -d)
	}
	return 0
}

// sited is an answer: of choices to be shown, or of what one would come to.
type sited struct {
	siting *templates.Siting
	asked  int
	effect bool
}

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Drafted:
		v.draft = msg.Draft
		if msg.Draft.Problem == nil {
			v.now, v.rows = nil, nil
			return nil
		}
		v.show(msg.Draft.Siting())
		v.before = nil
		return v.glance()
	case sited:
		if msg.asked != v.asked {
			return nil
		}
		if msg.effect {
			v.effect = msg.siting
			return nil
		}
		v.busy = false
		v.show(msg.siting)
		return v.glance()
	}
	return nil
}

// show takes a siting in. One without a placement leaves the matrix as it was.
func (v *View) show(s *templates.Siting) {
	if s.Placement == nil && v.now != nil && v.now.Placement != nil {
		s = &templates.Siting{Choices: s.Choices, Problem: v.now.Problem, Placement: v.now.Placement, Err: s.Err}
	}
	v.now = s
	v.rows = nil
	if s.Placement != nil {
		v.rows = rowsOf(s)
	}
	v.at = min(v.at, max(len(v.rows)-1, 0))
	v.site = min(v.site, max(len(v.sites())-1, 0))
}

func (v *View) sites() []*estate.Site {
	if v.now == nil || v.now.Problem == nil {
		return nil
	}
	return v.now.Problem.Estate.Sites
}

// choose shows what other choices come to.
func (v *View) choose(c templates.Choices) tea.Cmd {
	if v.draft == nil || v.now == nil {
		return nil
	}
	v.before = append(v.before, v.now.Choices)
	return v.solve(c)
}

func (v *View) solve(c templates.Choices) tea.Cmd {
	v.asked++
	v.busy, v.effect = true, nil
	asked, draft, like := v.asked, v.draft, v.now.Placement
	return func() tea.Msg { return sited{draft.Sited(c, like, templates.Whole, nil), asked, false} }
}

// glance asks what choosing the selected cell would come to.
func (v *View) glance() tea.Cmd {
	v.effect = nil
	r := v.row()
	if r == nil || v.now.Placement == nil || r.sites[v.site].Site == r.site {
		return nil
	}
	v.asked++
	asked, draft, like := v.asked, v.draft, v.now.Placement
	c := v.now.Choices
	pins := map[string]placement.Spot{}
	for w, s := range c.Pins {
		pins[w] = s
	}
	for _, w := range r.workloads {
		pins[w] = placement.Spot{Site: v.sites()[v.site].Name}
	}
	c.Pins = pins
	return func() tea.Msg { return sited{draft.Sited(c, like, templates.Glance, nil), asked, true} }
}

// row is the selected row, nil if there is none.
func (v *View) row() *row {
	if v.at >= len(v.rows) {
		return nil
	}
	return &v.rows[v.at]
}

func (v *View) move(rows, sites int) tea.Cmd {
	v.at = min(max(v.at+rows, 0), len(v.rows)-1)
	v.site = min(max(v.site+sites, 0), len(v.sites())-1)
	return v.glance()
}

// undo goes back to the choices before the last ones.
func (v *View) undo() tea.Cmd {
	if len(v.before) == 0 {
		return view.Cmd(view.Notice{Text: "nothing was chosen that could be undone"})
	}
	c := v.before[len(v.before)-1]
	v.before = v.before[:len(v.before)-1]
	return v.solve(c)
}

// compare keeps what is shown as the alternative, or lets go of it.
func (v *View) compare() tea.Cmd {
	if v.other != nil {
		v.other = nil
		return view.Cmd(view.Notice{Text: "the alternative is let go"})
	}
	kept := *v.now
	v.other = &kept
	return view.Cmd(view.Notice{Text: "kept as the alternative; choose otherwise, and both stand side by side"})
}

// swap shows the alternative and keeps what was shown.
func (v *View) swap() tea.Cmd {
	v.before = append(v.before, v.now.Choices)
	shown := *v.now
	v.show(v.other)
	v.other = &shown
	return v.glance()
}

// accept puts what was chosen into the plan.
func (v *View) accept() tea.Cmd {
	if v.now.Err != nil {
		return view.Cmd(view.Notice{Text: "there is no placement to accept with these choices; u undoes the last", Bad: true})
	}
	moves := templates.Shifts(v.draft.Placement, v.now.Placement)
	text := fmt.Sprintf("accepted: %s, %s move, %+.3f %s/h", printable.Count(v.now.Choices.Count(), "choice"), printable.Count(len(moves), "workload"),
		v.now.Placement.CostPerHour-v.draft.Placement.CostPerHour, v.currency())
	return tea.Batch(view.Cmd(view.Accepted{Choices: v.now.Choices}), view.Cmd(view.Notice{Text: text}))
}

func (v *View) currency() string { return v.now.Problem.Estate.Currency }

// Click selects a cell.
func (v *View) Click(x, y int) tea.Cmd {
	for _, s := range v.spots {
		if s.rect.Inside(x, y) {
			v.at, v.site, v.dial = s.row, s.site, -1
			return v.glance()
		}
	}
	return nil
}

// Wheel moves the selection.
func (v *View) Wheel(dy int) {
	if len(v.rows) > 0 {
		v.at = min(max(v.at+dy, 0), len(v.rows)-1)
	}
}

// Find selects the first row with the text.
func (v *View) Find(text string) bool {
	i := slices.IndexFunc(v.rows, func(r row) bool { return strings.Contains(strings.ToLower(r.title+" "+r.tier), strings.ToLower(text)) })
	if i >= 0 {
		v.at = i
	}
	return i >= 0
}

// Actions are what can be done to the selected cell.
func (v *View) Actions() []view.Action {
	r := v.row()
	if r == nil {
		return nil
	}
	site := v.sites()[v.site].Name
	return []view.Action{
		{Name: "pin " + r.title + " to " + site, Effect: v.effectLine(), Do: v.pin},
		{Name: "forbid " + site + " to " + r.title, Effect: "what is there goes elsewhere", Do: v.forbid},
		{Name: "keep this as the alternative", Effect: "both stand side by side; changes nothing", Do: v.compare},
		{Name: "accept into the plan", Effect: "the plan is compiled anew with what was chosen here; nothing is built", Do: v.accept},
	}
}

// effectLine says in a line what choosing the selected cell comes to.
func (v *View) effectLine() string {
	switch {
	case v.effect == nil:
		return "keeps it where it is"
	case v.effect.Err != nil:
		return "there would be no placement"
	}
	moves := templates.Shifts(v.now.Placement, v.effect.Placement)
	return fmt.Sprintf("%s move, %+.3f %s/h", printable.Count(len(moves), "workload"), v.effect.Placement.CostPerHour-v.now.Placement.CostPerHour, v.currency())
}

// Export writes the charts.
func (v *View) Export() tea.Cmd {
	if v.now == nil || v.now.Placement == nil {
		return nil
	}
	problem, placed, stands, name := v.now.Problem, v.now.Placement, v.draft.Stands, v.draft.Template.Name
	return func() tea.Msg {
		return view.Written(deployments.ExportCharts(name, problem, placed, stands, "."))
	}
}
