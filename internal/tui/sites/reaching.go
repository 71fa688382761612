package sites

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/tui/view"
)

// reachActs are the ways in which a site might be reached instead of how it is: through each pool that has workers, and from here.
func (v *View) reachActs(name string) []view.Action {
	var now app.Through
	for i := range v.connections {
		if v.connections[i].Site == name {
			now = v.connections[i].Workers()
		}
	}
	var pools []string
	for i := range v.workers {
		pools = append(pools, v.workers[i].Pool)
	}
	slices.Sort(pools)
	var out []view.Action
	for _, pool := range slices.Compact(pools) {
		if to := (app.Through{Pool: pool}); to.Whom() != now.Whom() {
			out = append(out, view.Action{Name: "reach " + name + " through " + pool, Effect: "tries it, and if it answers goes through workers of the pool: runs, surveys, measures, shells",
				Do: func() tea.Cmd { return v.reachThrough(name, to) }})
		}
	}
	if now.Pool != "" {
		out = append(out, view.Action{Name: "reach " + name + " from here", Effect: "goes through no workers any more", Do: func() tea.Cmd { return v.reachThrough(name, app.Through{}) }})
	}
	return out
}

// reachThrough has a site be reached through workers from now on, or from here.
func (v *View) reachThrough(name string, to app.Through) tea.Cmd {
	return func() tea.Msg {
		if err := v.app.SetThrough(v.ctx, name, to); err != nil {
			return view.Failed(err)
		}
		how := "from here"
		if to.Pool != "" {
			how = "through workers of the pool " + to.String()
		}
		return tea.BatchMsg{v.lookUp(), view.Cmd(view.Notice{Text: name + " is reached " + how})}
	}
}
