package place

import (
	tea "charm.land/bubbletea/v2"

	"andamio/internal/tui/view"
)

// Keys are the view's keys: those of the matrix, or of the questions and weights beside it.
func (v *View) Keys() []view.Key {
	undo := view.On("u", "u", "undo", "goes back to the choices before the last one", view.Run(v.undo))
	switch {
	case v.row() == nil && len(v.before) > 0:
		return []view.Key{undo}
	case v.row() == nil:
		return nil
	}
	accept := view.On("enter", "enter", "accept into plan", "puts what is chosen into the plan of Design and Deploy", view.Run(v.accept))
	if v.dial >= 0 {
		return append(v.dialKeys(), undo, accept)
	}
	keys := []view.Key{
		view.On(view.UpDown+" "+view.LeftRight+view.Pages, "↑↓←→", "cell", "selects a workload and a site", v.step),
		view.On("p", "p", "pin", "pins the workload to the site, or lets go of it", view.Run(v.pin)),
		view.On("x", "x", "forbid", "forbids the site to the workload, or allows it again", view.Run(v.forbid)),
		view.On("tab g", "g", "questions, weights", "goes to the questions of the workload, the weights, and how it is paid", view.Then(func() { v.dial = 0 })),
		view.On("v", "v", "compare", "keeps what is shown as the alternative, or lets go of it", view.Run(v.compare)),
	}
	if v.other != nil {
		keys = append(keys, view.On("s", "s", "swap", "shows the alternative, and keeps what was shown as one", view.Run(v.swap)))
	}
	return append(keys, undo, accept)
}

func (v *View) dialKeys() []view.Key {
	return []view.Key{
		view.On(view.UpDown, "↑↓", "question or weight", "selects a question, a weight, or how it is paid", v.stepDial),
		view.On(view.LeftRight+" - +", "←→", "change", "turns it down or up", v.turnDial),
		view.On("space", "space", "answer", "answers the other way, or turns it up", v.turnDial),
		view.On("esc tab g", "esc", "back to the matrix", "goes back to the workloads and sites", view.Then(func() { v.dial = -1 })),
	}
}

func (v *View) step(key string) tea.Cmd {
	sites, rows := view.Way(key)
	return v.move(rows, sites)
}

func (v *View) pin() tea.Cmd {
	return v.choose(v.now.Choices.Pinned(v.row().workloads, v.sites()[v.site].Name))
}

func (v *View) forbid() tea.Cmd {
	return v.choose(v.now.Choices.Forbidden(v.row().workloads, v.sites()[v.site].Name))
}
