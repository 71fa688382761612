package operate

import (
	"fmt"
	"strconv"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/health"
	"andamio/internal/core/kinds"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/tui/view"
)

// compile works an order out beside the screen and has the Deploy view show it: nothing is done before it was seen.
func (v *View) compile(make func() (deployments.Order, error)) tea.Cmd {
	return func() tea.Msg {
		o, err := make()
		if err != nil {
			return view.Failed(err)
		}
		if o.Plan.Nothing() {
			return view.Notice{Text: "it stands as it is wanted: nothing is to be done"}
		}
		return tea.BatchMsg{view.Cmd(view.OpenOrder{Order: o}), view.Cmd(view.Goto{Digit: "4"})}
	}
}

// Actions are what can be done to the selected deployment or tier; each shows its plan first.
func (v *View) Actions() []view.Action {
	d := v.selected()
	if d == nil || d.State() == run.Retired || !v.past.IsZero() {
		return nil
	}
	id, tier := d.ID, v.rows[v.at].tier
	what := d.Name
	if tier != "" {
		what = tier
	}
	first := func(name, effect string, make func() (deployments.Order, error)) view.Action {
		return view.Action{Name: name, Effect: effect + "; shows the plan first", Do: func() tea.Cmd { return v.compile(make) }}
	}
	acts := v.seeing(d, first)
	if v.watched.shown {
		acts = append(acts, v.besideActs()...)
	}
	acts = append(acts, []view.Action{
		{Name: "open a shell", Effect: "on the instance of the selected plank", Do: v.shellHere},
		first("stop "+what, "stops what runs there and switches its instances off", func() (deployments.Order, error) { return v.app.Powering(v.ctx, id, tier, false) }),
		first("start "+what, "switches its instances on and starts what runs there", func() (deployments.Order, error) { return v.app.Powering(v.ctx, id, tier, true) }),
		{Name: "change an input", Effect: "shows the plan that leads to the design with it", Ask: "NAME=VALUE",
			Answer: func(text string) tea.Cmd {
				return v.compile(func() (deployments.Order, error) { return v.app.ChangingInput(v.ctx, id, text) })
			}, Wrong: func(string) string { return "" }},
		first("update from the template", "compares what stands with the template as it is now", func() (deployments.Order, error) {
			draft, o, err := v.app.Updating(v.ctx, id, templates.Place{}, templates.DraftRequest{})
			if err == nil && draft.Plan == nil {
				err = fmt.Errorf("the template cannot be planned now: %v %v", draft.Err, draft.Diagnostics)
			}
			return o, err
		}),
	}...)
	if node := v.scalable(d, tier); node != "" {
		acts = append(acts, view.Action{Name: "scale " + node, Effect: "gives it more or fewer instances; shows the plan first", Ask: "how many",
			Answer: func(text string) tea.Cmd {
				n, _ := strconv.Atoi(text)
				return v.compile(func() (deployments.Order, error) { return v.app.Scaling(v.ctx, id, node, n) })
			}, Wrong: func(text string) string {
				if n, err := strconv.Atoi(text); err != nil || n < 0 {
					return "that is no number of instances"
				}
				return ""
			}})
	}
	acts = append(acts, v.keeping(d, tier, first)...)
	acts = append(acts, v.copying(d, first)...)
	acts = append(acts, v.levelling(d, first)...)
	acts = append(acts, v.extending(d)...)
	return append(acts,
		view.Action{Name: "clone " + d.Name, Effect: "another deployment like it, with addresses of its own; shows the plan first", Ask: "its name",
			Answer: func(text string) tea.Cmd {
				return v.compile(func() (deployments.Order, error) { return v.app.Cloning(v.ctx, id, text) })
			}, Wrong: func(string) string { return "" }},
		view.Action{Name: "make a template of " + d.Name, Here: true, Effect: "writes a template with its scripts that raises the like of what stands", Ask: "a new folder",
			Answer: func(text string) tea.Cmd {
				return func() tea.Msg { return view.Written(v.app.Capture(v.ctx, id, text)) }
			}, Wrong: func(string) string { return "" }},
		first("retire "+d.Name, "takes everything of it away", func() (deployments.Order, error) { return v.app.Retiring(v.ctx, id) }))
}

// scalable is the node of a tier whose number of instances an input may say: that of its instances.
func (v *View) scalable(d *deployments.Deployment, tier string) string {
	for i := range d.Stand.Plan.Resources {
		if r := &d.Stand.Plan.Resources[i]; r.Kind == kinds.Instance && health.TiersOf(d.Stand.Plan)[r.ID] == tier {
			return r.Node
		}
	}
	return ""
}

// shellHere opens a shell on the instance of the selected plank, and consoleHere its serial console.
func (v *View) shellHere() tea.Cmd   { return v.enterHere(false) }
func (v *View) consoleHere() tea.Cmd { return v.enterHere(true) }

// sole is the only instance of a deployment, which is meant whatever of it is selected; "" where there are more.
func sole(s *run.State) string {
	out := ""
	for i := range s.Resources {
		if r := &s.Resources[i]; r.Kind == kinds.Instance {
			if out != "" {
				return ""
			}
			out = r.ID
		}
	}
	return out
}

func (v *View) enterHere(serial bool) tea.Cmd {
	if !v.past.IsZero() {
		return view.Cmd(view.Notice{Text: "nothing can be done in the past: esc goes back to now", Bad: true})
	}
	d, s := v.selected(), v.state()
	if d == nil || s == nil {
		return nil
	}
	r := s.Resource(v.elevation.Selected)
	if r == nil {
		return view.Cmd(view.Notice{Text: "select a plank first: tab goes to the elevation"})
	}
	on := r.ID
	switch {
	case r.On != "":
		on = r.On
	case r.AsEndpoint().EndpointOf != "":
		on = s.Resource(r.AsEndpoint().EndpointOf).On
	}
	if host := s.Resource(on); host == nil || host.Kind != kinds.Instance {
		on = sole(s)
	}
	if on == "" {
		return view.Cmd(view.Notice{Text: r.Title + " runs on no instance, so there is no shell to open"})
	}
	id := d.ID
	return func() tea.Msg { // how it is reached is looked up anew: a run may have just built it
		h, err := v.app.FindHost(v.ctx, fmt.Sprintf("%d/%s", id, on))
		if err != nil {
			return view.Failed(err)
		}
		return view.OpenShell{Host: h, Serial: serial}
	}
}
