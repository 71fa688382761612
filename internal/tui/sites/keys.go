package sites

import (
	tea "charm.land/bubbletea/v2"

	"andamio/internal/tui/view"
)

// Keys are the view's keys, or those of the way to a new site while it is gone.
func (v *View) Keys() []view.Key {
	if v.path != nil {
		return v.path.keys()
	}
	return []view.Key{
		view.On(view.UpDown, "↑↓", "site", "selects a site", v.step),
		view.On("n", "n", "connect a site", "asks for what is needed to connect a site, and tries it before anything is kept", view.Run(v.beginPath)),
		view.On("s", "s", "survey", "looks at what the selected site has now", view.Run(v.surveySelected)),
		view.On("t", "t", "test", "tries the connection and credential of the selected site", view.Run(v.testSelected)),
		view.On(view.LeftRight+" m", "←→", "cores, memory, disk", "shows another of them in the bars", v.turnBars),
	}
}

func (v *View) step(key string) tea.Cmd {
	_, dy := view.Way(key)
	v.at = min(max(v.at+dy, 0), max(v.count()-1, 0))
	return nil
}

func (v *View) turnBars(key string) tea.Cmd {
	by := 1
	if dx, _ := view.Way(key); dx < 0 {
		by = len(dims) - 1
	}
	v.dim = (v.dim + by) % len(dims)
	return nil
}

func (v *View) beginPath() tea.Cmd {
	if v.app == nil {
		return nil
	}
	v.path = newPath()
	return v.path.ask()
}

func (v *View) surveySelected() tea.Cmd {
	s := v.siteName()
	if s == "" {
		return nil
	}
	return tea.Batch(v.survey(s), view.Cmd(view.Notice{Text: s + " is being surveyed"}))
}

func (v *View) testSelected() tea.Cmd {
	if s := v.siteName(); s != "" {
		return v.test(s)
	}
	return nil
}
