package reconcile

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/inventory"
	"andamio/internal/core/servicemap"
	"andamio/internal/tui/view"
)

// evidence is one attribute's word for or against two being one.
func evidence(e inventory.Evidence) string {
	return fmt.Sprintf("%-16s %+5.1f bits   %s | %s", word(e.Attribute), e.Bits, none(e.Recorded), none(e.Observed))
}

// whyLost spells out what the selected node needs and what needs it.
func (v *View) whyLost() view.Note {
	n := v.world.selected()
	loss := v.world.losing()
	lines := []view.Line{view.Head("what its loss takes down")}
	for _, s := range loss.Down {
		lines = append(lines, view.Say("  "+s+": every one of a tier of it is lost"))
	}
	for _, s := range loss.Weakened {
		lines = append(lines, view.Say("  "+s+" goes on with less"))
	}
	if len(loss.Cut) > 0 {
		lines = append(lines, view.Say("  what they connect to is lost: "+strings.Join(v.world.names(loss.Cut), ", ")))
	}
	if len(loss.Down)+len(loss.Weakened) == 0 {
		lines = append(lines, view.Say("  no service"))
	}
	list := func(head string, ids map[string]bool) {
		lines = append(lines, view.Say(""), view.Head(head))
		var names []string
		for id := range ids {
			if x := v.world.m.Node(id); x != nil && id != n.ID {
				names = append(names, fmt.Sprintf("%d %-10s %s", x.Layer, one(x.Layer), x.Name))
			}
		}
		slices.Sort(names)
		for _, name := range names {
			lines = append(lines, view.Say("  "+name[2:]))
		}
	}
	list("what it needs", v.world.m.Under(n.ID))
	list("what needs it", v.world.m.Over(n.ID))
	return view.Note{Title: n.Name, Lines: lines}
}

func one(l servicemap.Layer) string {
	w := l.Word()
	return w[:len(w)-1]
}
