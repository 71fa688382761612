package sites

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// pairOf is what is known of two sites as a pair, nil if they are none.
func (v *View) pairOf(a, b string) *app.Pair {
	for i := range v.pairs {
		if p := &v.pairs[i]; p.A == min(a, b) && p.B == max(a, b) {
			return p
		}
	}
	return nil
}

// paired draws how a site is paired with another: how much gets through either way, and from whose side moves are
// started.
func (p *page) paired(here, there string, x, y int) {
	pair := p.v.pairOf(here, there)
	switch {
	case pair == nil:
		p.c.Text(x, y, part.In(part.Dim), p.c.Look.Mark("planned")+" no")
	case !pair.Well():
		p.c.Cut(x, y, 29, part.In(part.Coral), p.c.Look.Mark("failed")+" "+pair.Trouble())
	default:
		text := fmt.Sprintf("%s out %.0f, in %.0f MB/s", p.c.Look.Mark("standing"), pair.Into(there).BytesPerSecond/1e6, pair.Into(here).BytesPerSecond/1e6)
		if pair.Start != app.Both {
			text += " from " + pair.Start
		}
		p.c.Cut(x, y, 29, part.In(part.Teal), text)
	}
}

// pairActs are what can be done about pairs of a site.
func (v *View) pairActs(name string) []view.Act {
	pair := func(start string) func(other string) tea.Cmd {
		return func(other string) tea.Cmd {
			return func() tea.Msg {
				p, err := v.app.MakePair(v.ctx, name, other, start)
				if err != nil {
					return view.Told{Text: err.Error(), Bad: true}
				}
				if why := p.Trouble(); why != "" {
					return view.Told{Text: "they are paired, and " + why, Bad: true}
				}
				return view.Told{Text: fmt.Sprintf("%s and %s are paired", name, other)}
			}
		}
	}
	out := []view.Act{
		{Name: "pair " + name + " for moves", Effect: "the two exchange keys, and disks go straight from one to the other; moves may be started from either side",
			Ask: "the other site", Answer: pair(app.Both)},
		{Name: "pair " + name + ", moves started from here alone", Effect: "what the other takes is granted from here, disk by disk", Ask: "the other site", Answer: pair(name)},
	}
	if len(v.pairs) > 0 {
		out = append(out, view.Act{Name: "try all pairs again", Effect: "asks both sides for the other: reach, clock, what gets through", Do: func() tea.Cmd {
			return func() tea.Msg {
				if _, err := v.app.CheckPairs(v.ctx); err != nil {
					return view.Told{Text: err.Error(), Bad: true}
				}
				return view.Told{Text: "all pairs were tried"}
			}
		}})
	}
	return out
}
