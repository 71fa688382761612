package operate

import (
	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/elevation"
	"andamio/internal/tui/view"
)

// Keys are the view's keys; a shell that has the focus takes all but two.
func (v *View) Keys() []view.Key {
	if v.Typing() {
		return []view.Key{
			view.On(leave, leave, "leave the shell", "gives the keys back to the view; the shell stays open", nil),
			view.On(next, next, "next shell", "goes to the next open shell", nil),
			view.On("", "exit", "ends it", "typed in the shell, ends it", nil),
			view.On(end, end, "end the console", "ends a serial console", nil),
		}
	}
	arrows := view.On(view.UpDown+view.Pages, "↑↓", "tier", "selects a deployment or a tier of it", v.step)
	if v.inElevation {
		arrows = view.On(view.UpDown+" "+view.LeftRight+view.Pages, "↑↓←→", "plank", "selects a plank", v.step)
	}
	keys := []view.Key{arrows}
	if v.inElevation {
		keys = append(keys, view.On("esc", "esc", "back", "goes back to the tiers", view.Then(func() { v.inElevation = false })))
	}
	if v.watched.shown {
		keys = append(keys, v.besideKeys()...)
		keys = append(keys,
			view.On("+ =", "+", "longer", "has curves be of a longer time", view.Run(func() tea.Cmd { return v.widen(1) })),
			view.On("-", "-", "shorter", "has curves be of a shorter time", view.Run(func() tea.Cmd { return v.widen(-1) })))
	}
	if !v.past.IsZero() && !v.inElevation {
		keys = append(keys, view.On("esc", "esc", "now", "goes back to how everything is now", view.Run(v.present)))
	}
	keys = append(keys,
		view.On("{", "{", "back", "shows how everything was before", view.Run(func() tea.Cmd { return v.back(1) })),
		view.On("}", "}", "forth", "goes forth again", view.Run(func() tea.Cmd { return v.back(-1) })))
	return append(keys,
		view.On("tab", "tab", "elevation", "goes from the tiers to the picture, to the shells where some are open, and round", view.Then(v.nextPane)),
		view.On("o", "o", "shell", "opens a shell on the selected instance", view.Run(v.shellHere)),
		view.On("O", "O", "console", "opens the serial console of the selected instance, where its site has them", view.Run(v.consoleHere)),
		view.On("enter", "enter", "last run", "shows the last run of the selected deployment in Deploy", view.Run(v.lastRun)),
		view.On("L", "L", "log", "shows or hides what the selected plank printed", view.Then(func() { v.log = !v.log })),
		view.On("m", "m", "measures", "shows what is measured in the place of the picture, and back", view.Run(v.showMeasures)),
		view.On("z", "z", "zoom", "draws planks as names, as bricks or as densities", view.Then(func() { v.elevation.Zoom = v.elevation.Zoom.Next() })),
		view.On("b", "b", "by service", "makes the bays of the picture services, or sites", view.Then(func() { v.elevation.By = elevation.ByService - v.elevation.By })))
}

func (v *View) step(key string) tea.Cmd {
	v.move(view.Way(key))
	return nil
}

func (v *View) nextPane() {
	if len(v.shells.open) > 0 && v.inElevation {
		v.shells.focus = true
	}
	v.inElevation = !v.inElevation
}

func (v *View) lastRun() tea.Cmd {
	d := v.selected()
	if d == nil {
		return nil
	}
	return tea.Batch(view.Cmd(view.OpenRun{ID: d.Last().ID}), view.Cmd(view.Goto{Digit: "4"}))
}
