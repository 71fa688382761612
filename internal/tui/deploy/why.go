package deploy

import (
	"fmt"
	"strings"

	"andamio/internal/core/run"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// Why explains the selected resource: why it is where it is, what rules out each other site, what it waits for, and
// what decides when it stands.
func (v *View) Why() view.Note {
	v.follow = false // what is asked about stays selected
	if v.state == nil {
		return view.Note{Title: "why", Lines: []view.Line{view.Say("nothing is selected")}}
	}
	r := v.state.Resource(v.elevation.Selected)
	if r == nil {
		return view.Note{Title: "why", Lines: []view.Line{view.Say("nothing is selected")}}
	}
	var lines []view.Line
	if len(r.Reasons) > 0 {
		lines = append(lines, view.Head("why "+string(r.Change)))
		for _, w := range r.Reasons {
			lines = append(lines, view.Say("  "+w))
		}
		lines = append(lines, view.Say(""))
	}
	lines = append(lines, view.Head(fmt.Sprintf("why at %s%s", r.Site, zone(r))))
	for _, w := range r.Why {
		lines = append(lines, view.Say("  "+w))
	}
	if on := v.state.Resource(r.On); on != nil {
		for _, w := range on.Why {
			lines = append(lines, view.Say("  "+w))
		}
		lines = append(lines, elsewhere(on)...)
	}
	lines = append(lines, elsewhere(r)...)
	lines = append(lines, v.whyNow(r)...)
	if r.CostPerHour > 0 {
		lines = append(lines, view.Say(""), view.Head("cost"),
			view.Say(fmt.Sprintf("  %.3f %s/h: %s at %s", r.CostPerHour, v.state.Plan.Currency, r.Detail, r.Site)))
	}
	return view.Note{Title: "why " + r.Title, Lines: lines}
}

func zone(r *run.Resource) string {
	if r.Zone == "" {
		return ""
	}
	return ", zone " + r.Zone
}

func elsewhere(r *run.Resource) []view.Line {
	if len(r.Elsewhere) == 0 {
		return nil
	}
	lines := []view.Line{view.Say(""), view.Head("elsewhere")}
	for _, e := range r.Elsewhere {
		lines = append(lines, view.Say(fmt.Sprintf("  %-14s %s", e.Site, e.Reason)))
	}
	return lines
}

// whyNow says what each unfinished step of the plank waits for.
func (v *View) whyNow(r *run.Resource) []view.Line {
	lines := []view.Line{view.Say(""), view.Head("why in this state: " + string(r.Status))}
	for _, st := range v.steps(r) {
		switch {
		case st.Error != "":
			lines = append(lines, view.Say(fmt.Sprintf("  %s %s: %s", st.Title, st.Status, st.Error)))
		case st.Status == run.UnderWay:
			lines = append(lines, view.Say(fmt.Sprintf("  %s runs; it is done when %s", st.Title, condition(st))))
		case st.Status == run.Planned || st.Status == run.Held:
			lines = append(lines, view.Say("  "+st.Title+" waits for "+v.waitsFor(st)))
		}
	}
	if len(lines) > 2 {
		lines = append(lines, v.slack(r)...)
	} else {
		lines = append(lines, view.Say("  every step of it is done, and each was checked: "+checks(v.steps(r))))
	}
	return lines
}

// slack says whether the plank decides when the whole is done, or how late it may be.
func (v *View) slack(r *run.Resource) []view.Line {
	least := -1.0
	for _, st := range v.steps(r) {
		if st.Status == run.Standing {
			continue
		}
		if st.Critical {
			return []view.Line{view.Say("  it is on the critical path: a second lost here is a second lost in all")}
		}
		if least < 0 || st.Slack < least {
			least = st.Slack
		}
	}
	if least <= 0 {
		return nil
	}
	return []view.Line{view.Say(fmt.Sprintf("  by the plan it may be %s late without delaying the whole", part.Clock(seconds(least))))}
}

func (v *View) waitsFor(st *run.Step) string {
	var names []string
	for _, a := range st.After {
		if before := v.state.Step(a); before.Status != run.Standing && before.Status != run.Passed {
			names = append(names, fmt.Sprintf("%s (%s)", a, before.Status))
		}
	}
	switch {
	case len(names) == 0:
		return "its turn"
	case len(names) > 4:
		return strings.Join(names[:4], ", ") + fmt.Sprintf(" and %d more", len(names)-4)
	}
	return strings.Join(names, ", ")
}

// condition says when a step is done.
func condition(st *run.Step) string {
	switch st.Check.Kind {
	case "site":
		return st.Site + " says active"
	case "exit":
		return "its script exits with 0"
	case "tcp":
		return "its port accepts a connection"
	case "http":
		return "the page " + st.Check.Path + " is served with status 200"
	}
	return "it is its turn"
}

func checks(steps []*run.Step) string {
	seen := map[string]bool{}
	var out []string
	for _, st := range steps {
		if c := condition(st); !seen[c] {
			seen[c] = true
			out = append(out, c)
		}
	}
	return strings.Join(out, "; ")
}
