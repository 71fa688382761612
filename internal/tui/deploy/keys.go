package deploy

import (
	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/elevation"
	"andamio/internal/core/run"
	"andamio/internal/tui/view"
)

// Keys are the view's keys: those of the log while it is open, those that decide while something waits for it.
func (v *View) Keys() []view.Key {
	if v.log.open {
		return append(v.log.keys(), view.On("[ ]", "[ ]", "other runs", "shows the run before or after", v.otherRun))
	}
	keys := []view.Key{view.On(view.UpDown+" "+view.LeftRight+view.Pages, "↑↓←→", "plank", "selects a plank; the run is no longer followed", v.step)}
	switch {
	case len(v.waiting()) > 0:
		keys = append(keys, view.On("r", "r", "retry", "tries the selected failed step again", view.Run(func() tea.Cmd { return v.decide(run.Retry) })),
			view.On("s", "s", "skip", "asks, then goes on without the selected failed step", view.Run(v.confirmSkip)),
			view.On("n", "n", "next failed", "selects the next step that waits for a decision", view.Then(v.nextFailed)))
	case v.asking() != nil:
		keys = append(keys, view.On("r", "r", "ask now", "asks the site again at once for the step that waits until then", view.Run(v.askNow)))
	case v.order != nil && v.state != nil:
		keys = append(keys, view.On("r", "r", "run it", "runs the plan that is shown; what loses something asks first", view.Run(v.begin)))
	}
	if v.detail {
		keys = append(keys, view.On("esc", "esc", "back", "goes back to the picture", view.Then(func() { v.detail = false })))
	}
	return append(keys,
		view.On("enter", "enter", "detail", "shows all of the selected plank: its steps, what they printed, what it stands on and carries", view.Then(func() { v.detail = !v.detail })),
		view.On("L", "L", "log", "shows what all steps printed, in the order of time", view.Then(func() { v.log.open = true })),
		view.On("t", "t", "timeline", "shows or hides the steps as bars over time", view.Then(func() { v.timeline = !v.timeline })),
		view.On("z", "z", "zoom", "draws planks as names, as bricks or as densities", view.Run(v.zoom)),
		view.On("b", "b", "by service", "makes the bays of the picture services, or sites", view.Then(func() { v.elevation.By = elevation.ByService - v.elevation.By })),
		view.On("f", "f", "follow", "selects what is under way, and goes on with it", view.Then(v.followRun)),
		view.On("[ ]", "[ ]", "other runs", "shows the run before or after", v.otherRun))
}

func (v *View) step(key string) tea.Cmd {
	v.move(view.Way(key))
	return nil
}

func (v *View) zoom() tea.Cmd {
	v.elevation.Zoom = v.elevation.Zoom.Next()
	return view.Cmd(view.Notice{Text: "zoom: " + v.elevation.Zoom.String()})
}

func (v *View) followRun() {
	v.follow = true
	if v.state != nil {
		v.followUp()
	}
}

// nextFailed selects the next step that waits.
func (v *View) nextFailed() {
	all := v.waiting()
	v.held = (v.held + 1) % len(all)
	v.elevation.Selected, v.follow = v.state.Plan.Plank(all[v.held].Resource), false
}
