package reconcile

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/inventory"
	"andamio/internal/tui/view"
)

// Click selects a finding, and marks it when it is selected already; in the map it selects a node.
func (v *View) Click(x, y int) tea.Cmd {
	if v.world.open {
		for _, s := range v.world.spots {
			if s.r.Inside(x, y) {
				v.world.layer, v.world.at[s.layer] = s.layer, s.i
			}
		}
		return nil
	}
	i, ok := v.spots[y]
	if !ok {
		return nil
	}
	if i == v.at {
		return v.mark()
	}
	v.at = i
	return v.recall()
}

// Wheel moves the selection.
func (v *View) Wheel(dy int) {
	if v.world.open {
		v.world.choose(dy)
		return
	}
	v.at = min(max(v.at+dy, 0), max(len(v.rows)-1, 0))
}

// Find selects the first finding, or node of the map, with the text.
func (v *View) Find(text string) bool {
	text = strings.ToLower(text)
	if v.world.open && v.world.m != nil {
		for i := range v.world.m.Nodes {
			n := &v.world.m.Nodes[i]
			if !strings.Contains(strings.ToLower(n.Name), text) {
				continue
			}
			for k, x := range v.world.m.On(n.Layer) {
				if x.ID == n.ID {
					v.world.layer, v.world.at[n.Layer] = n.Layer, k
					return true
				}
			}
		}
		return false
	}
	for i, r := range v.rows {
		if r.finding < 0 {
			continue
		}
		f := &v.inv.Findings[r.finding]
		if strings.Contains(strings.ToLower(f.Name+" "+string(f.Class)+" "+f.Site+" "+strings.Join(f.Why, " ")), text) {
			v.at = i
			return true
		}
	}
	return false
}

// Why says of the selected finding why it is one, in what place and how sure the identity is.
func (v *View) Why() view.Note {
	if n := v.world.selected(); v.world.open && n != nil {
		return v.whyLost()
	}
	f := v.finding()
	if f == nil {
		lines := []view.Line{view.Head("the sorts of findings")}
		for _, t := range inventory.Types {
			lines = append(lines, view.Say("  "+string(t)+": "+meaning[t]))
		}
		return view.Note{Title: "why", Lines: append(lines, view.Say(""), view.Head("whose word counts"),
			view.Say("  What a deployment asks for, it decides; names, tags and addresses are as recorded; what only a site can know is as observed, and the record follows. mapping.yaml says otherwise where you want."))}
	}
	lines := []view.Line{view.Head("why it is a finding")}
	for _, w := range f.Why {
		lines = append(lines, view.Say("  "+w))
	}
	if len(f.Match.Evidence) > 0 {
		lines = append(lines, view.Say(""), view.Head("why it is the same thing (each bit doubles the odds)"))
		for _, e := range f.Match.Evidence {
			lines = append(lines, view.Say("  "+evidence(e)))
		}
	}
	if len(f.Carries) > 0 {
		lines = append(lines, view.Say(""), view.Head("what goes with it, and is no finding of its own"), view.Say("  "+strings.Join(f.Carries, ", ")))
	}
	lines = append(lines, view.Say(""), view.Head("how it can be settled"))
	for _, w := range f.Ways {
		lines = append(lines, view.Say("  "+wordOf(w)+": "+about(f, w)))
	}
	return view.Note{Title: f.Name, Lines: append(lines, view.Say(""), view.Head("why in this place"),
		view.Say("  first what endangers a service, then what costs, then by sort: missing, moved, duplicate, changed, unmanaged, stale"))}
}

// Export writes the map.
func (v *View) Export() tea.Cmd {
	m := v.world.m
	if m == nil {
		return nil
	}
	selected := ""
	if n := v.world.selected(); n != nil && v.world.open {
		selected = n.ID
	}
	return func() tea.Msg { return view.Written(v.app.ExportMap(m, selected, ".")) }
}
