package reconcile

import (
	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/inventory"
	"andamio/internal/tui/view"
)

// keyOf are the keys of the ways.
var keyOf = []struct {
	key  string
	way  inventory.Way
	word string
	says string
}{
	{"A", inventory.Adopt, "adopt", "marks it to be taken into the inventory as it is"},
	{"R", inventory.CorrectRecord, "correct the record", "marks it so that the record becomes what the site has"},
	{"S", inventory.CorrectSite, "correct the site", "marks it so that the site becomes what was asked for, by a plan"},
	{"T", inventory.Retire, "retire", "marks it to be taken away: the record, or the thing by a plan"},
	{"B", inventory.Same, "both are one", "marks two records as one thing"},
	{"P", inventory.Apart, "they are apart", "marks two records as two things"},
	{"I", inventory.Ignore, "ignore", "marks it to be left alone until it changes"},
}

// Keys are the view's keys: those of the findings, or of the map.
func (v *View) Keys() []view.Key {
	if v.world.open {
		return append(v.world.keys(), v.timeKeys()...)
	}
	keys := []view.Key{
		view.On(view.UpDown+view.Pages, "↑↓", "finding", "selects a finding, or all of one sort", v.step),
		view.On("space", "space", "mark", "marks it to be settled as is suggested, or takes the mark off", view.Run(v.mark)),
		view.On("*", "*", "all alike", "marks all findings like this one alike", view.Run(v.markLike)),
	}
	f := v.finding()
	for _, k := range keyOf {
		if f == nil || f.Can(k.way) {
			keys = append(keys, view.On(k.key, k.key, k.word, k.says, view.Run(func() tea.Cmd { return v.choose(k.way) })))
		}
	}
	if len(v.chosen) > 0 {
		keys = append(keys, view.On("esc", "esc", "clear the marks", "takes all marks off", view.Run(v.clear)))
	}
	return append(keys,
		view.On("enter", "enter", "do it", "shows what settling the marked does, and does it once you say so", view.Run(v.settle)),
		view.On("s", "s", "survey", "surveys the sites now", view.Run(v.survey)),
		view.On("m", "m", "map", "shows what stands on what, from services to sites", view.Then(func() { v.world.open = true })),
		view.On("u", "u", "undo", "takes the last settling of records back", view.Run(v.undo)),
		view.On(view.LeftRight, "←→", "fold", "folds the findings of a sort, or unfolds them", v.fold))
}

func (v *View) step(key string) tea.Cmd {
	_, dy := view.Way(key)
	return v.move(dy)
}

// fold folds the selected sort of findings to the left, and unfolds it to the right.
func (v *View) fold(key string) tea.Cmd {
	if v.at < len(v.rows) {
		dx, _ := view.Way(key)
		v.folded[v.rows[v.at].group] = dx < 0
		v.list()
		v.at = min(v.at, len(v.rows)-1)
	}
	return nil
}

func (v *View) clear() tea.Cmd {
	clear(v.chosen)
	return v.work()
}

// keys are those of the map.
func (w *world) keys() []view.Key {
	away := "esc m"
	if !w.past.IsZero() {
		away = "m"
	}
	keys := []view.Key{view.On(away, "m", "findings", "goes back to the findings", view.Then(func() { w.open = false }))}
	if w.m == nil {
		return keys
	}
	return append(keys,
		view.On(view.LeftRight, "←→", "layer", "goes to the next layer, to what is lit there", func(key string) tea.Cmd { dx, _ := view.Way(key); w.step(dx); return nil }),
		view.On(view.UpDown+view.Pages, "↑↓", "one of it", "selects another of the layer", func(key string) tea.Cmd { _, dy := view.Way(key); w.choose(dy); return nil }),
		view.On("x", "x", "its loss", "shows what falls or is weakened if it is lost", view.Then(func() { w.lost = !w.lost })))
}

// timeKeys are those by which the map is shown as it was.
func (v *View) timeKeys() []view.Key {
	w := &v.world
	if w.m == nil {
		return nil
	}
	keys := []view.Key{view.On("{", "{", "back", "shows the map as it was before, with what was wrong then", view.Run(func() tea.Cmd { return v.back(1) }))}
	if w.past.IsZero() {
		return keys
	}
	return append(keys,
		view.On("}", "}", "forth", "goes forth again", view.Run(func() tea.Cmd { return v.back(-1) })),
		view.On("+ =", "+", "longer steps", "goes back and forth by more at once", view.Run(func() tea.Cmd { return v.longer(1) })),
		view.On("-", "-", "shorter steps", "goes back and forth by less at once", view.Run(func() tea.Cmd { return v.longer(-1) })),
		view.On("esc", "esc", "now", "shows how it is now", view.Run(v.present)))
}

// choose moves within the layer.
func (w *world) choose(by int) {
	if w.m != nil {
		w.at[w.layer] = min(max(w.at[w.layer]+by, 0), max(len(w.m.On(w.layer))-1, 0))
	}
}
