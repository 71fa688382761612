package design

import (
	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/elevation"
	"andamio/internal/tui/view"
)

// Keys are the view's keys; while an input is edited they are those of the text.
func (v *View) Keys() []view.Key {
	switch {
	case v.template == nil:
		return nil
	case v.edit != nil:
		return view.FieldKeys(
			view.On("enter", "enter", "take it", "takes the value, and works everything out anew; an emptied input is as the preset or template says", nil),
			view.On("esc", "esc", "leave it", "leaves the input as it was", nil))
	}
	return append(v.paneKeys(),
		view.On("tab shift+tab", "tab", "pane", "goes to the next of source, inputs and picture; shift+tab to the one before", v.nextPane),
		view.On("r", "r", "to the plan", "shows the plan before anything is built", view.Run(v.toPlan)),
		view.On("p", "p", "preset", "takes the next preset; what was changed by hand is forgotten", view.Run(v.nextPreset)),
		view.On("f", "f", "next mistake", "goes to the line of the next mistake or warning", view.Then(v.nextMistake)),
		view.On("o", "o", "outline", "shows the tiers in place of the source, or the source again", view.Then(v.toggleOutline)),
		view.On("m", "m", "more inputs", "shows the inputs that have defaults too, or hides them", view.Then(v.toggleMore)),
		view.On("n", "n", "next file", "shows the next file of the template", view.Then(v.nextFile)),
		view.On("z", "z", "zoom", "draws planks as names, as bricks or as densities", view.Run(v.zoom)),
		view.On("b", "b", "by site", "makes the bays of the picture sites, or services", view.Then(func() { v.pic.By = elevation.ByService - v.pic.By })),
		view.On("N", "N", "another name", "plans this beside what stands, under another name", view.Run(func() tea.Cmd { return view.Cmd(view.Prompt{Act: v.naming()}) })),
	)
}

// paneKeys are those of the pane that has the focus.
func (v *View) paneKeys() []view.Key {
	switch {
	case v.focus == paneInputs:
		return []view.Key{
			view.On(view.UpDown+view.Pages, "↑↓", "input", "selects an input", v.step),
			view.On("enter", "enter", "edit", "edits the selected input; a secret is given to the run, not here", view.Then(v.beginEdit)),
		}
	case v.focus == panePicture:
		return []view.Key{view.On(view.UpDown+" "+view.LeftRight+view.Pages, "↑↓←→", "plank", "selects a plank; the source goes with it", v.step)}
	case v.outline:
		return []view.Key{
			view.On(view.UpDown+view.Pages, "↑↓", "node", "selects a tier or a node of it", v.step),
			view.On("enter", "enter", "source", "shows the lines of the selected node", view.Then(func() { v.outline = false })),
		}
	}
	return []view.Key{view.On(view.UpDown+view.Pages, "↑↓", "line", "moves over the source; the picture goes with it", v.step)}
}

func (v *View) step(key string) tea.Cmd {
	v.move(view.Way(key))
	return nil
}

func (v *View) nextPane(key string) tea.Cmd {
	by := pane(1)
	if key == "shift+tab" {
		by = panes - 1
	}
	v.focus = (v.focus + by) % panes
	return nil
}

func (v *View) toggleOutline() { v.outline, v.focus = !v.outline, paneSource }

func (v *View) toggleMore() {
	v.more = !v.more
	v.input = min(v.input, max(len(v.inputRows())-1, 0))
}

func (v *View) zoom() tea.Cmd {
	v.pic.Zoom = v.pic.Zoom.Next()
	return view.Cmd(view.Notice{Text: "zoom: " + v.pic.Zoom.String()})
}

// Typing reports whether an input is edited.
func (v *View) Typing() bool { return v.edit != nil }

// Type edits the input's text; enter takes it, esc leaves it as it was.
func (v *View) Type(msg tea.Msg) (tea.Cmd, bool) {
	if k, ok := msg.(tea.KeyPressMsg); ok {
		switch k.String() {
		case "ctrl+c":
			return nil, false
		case "esc":
			v.edit = nil
			return nil, true
		case "enter":
			text := v.edit.Text()
			v.edit = nil
			return v.change(v.selected(), text), true
		}
	}
	v.edit.Update(msg)
	return nil, true
}
