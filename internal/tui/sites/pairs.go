package sites

import (
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/service/sites"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// pairOf is what is known of two sites as a pair, nil if they are none.
func (v *View) pairOf(a, b string) *sites.Pair {
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
		if pair.Relayed {
			text = p.c.Look.Mark("standing") + " " + pair.Through(there)
		}
		if pair.Start != sites.Both {
			text += " from " + pair.Start
		}
		p.c.Cut(x, y, 29, part.In(part.Teal), text)
	}
}

// staleAfter is after how long links are tried again while the sites are on screen.
const staleAfter = 2 * time.Minute

// triedPairs says that the links of all pairs were tried.
type triedPairs struct{ err error }

// tryPairs tries the links of all pairs again if that is long ago; nil if it is not.
func (v *View) tryPairs() tea.Cmd {
	stale := slices.ContainsFunc(v.pairs, func(p sites.Pair) bool { return time.Since(p.Checked) > staleAfter })
	if !stale || v.trying {
		return nil
	}
	v.trying = true
	return func() tea.Msg {
		_, err := v.app.CheckPairs(v.ctx)
		return triedPairs{err}
	}
}

// pairLines say of all pairs of a site how they are: reach and clock, what gets through, what is free, both ways.
func (v *View) pairLines(site string) []view.Line {
	var out []view.Line
	for _, p := range v.pairs {
		if p.A != site && p.B != site {
			continue
		}
		if out == nil {
			out = []view.Line{view.Say(""), view.Head("paired for moves")}
		}
		other := p.Other(site)
		if why := p.Trouble(); why != "" {
			out = append(out, view.Say("  "+other+": "+why))
			continue
		}
		there, here := p.Into(other), p.Into(site)
		if p.Relayed {
			out = append(out, view.Say(fmt.Sprintf("  %-14s %s · %.1f ms · free there: %s · started from %s · tried %s ago", other, p.Through(other),
				float64(there.RoundTrip)/1e6, p.Free[other], p.Start, time.Since(p.Checked).Round(time.Second))))
			continue
		}
		out = append(out, view.Say(fmt.Sprintf("  %-14s out %.0f MB/s, in %.0f MB/s · %.1f ms · clock %+.1f s · free there: %s · started from %s · tried %s ago", other,
			there.BytesPerSecond/1e6, here.BytesPerSecond/1e6, float64(there.RoundTrip)/1e6, here.Ahead.Seconds(), p.Free[other], p.Start, time.Since(p.Checked).Round(time.Second))))
	}
	return out
}

// pairActs are what can be done about pairs of a site.
func (v *View) pairActs(name string) []view.Action {
	pair := func(start string) func(other string) tea.Cmd {
		return func(other string) tea.Cmd {
			return func() tea.Msg {
				p, err := v.app.MakePair(v.ctx, name, other, start)
				if err != nil {
					return view.Failed(err)
				}
				if why := p.Trouble(); why != "" {
					return view.Notice{Text: "they are paired, and " + why, Bad: true}
				}
				return view.Notice{Text: fmt.Sprintf("%s and %s are paired", name, other)}
			}
		}
	}
	out := []view.Action{
		{Name: "pair " + name + " for moves", Effect: "the two exchange keys, and disks go straight from one to the other; moves may be started from either side",
			Ask: "the other site", Answer: pair(sites.Both)},
		{Name: "pair " + name + ", moves started from here alone", Effect: "what the other takes is granted from here, disk by disk", Ask: "the other site", Answer: pair(name)},
	}
	if len(v.pairs) > 0 {
		out = append(out, view.Action{Name: "try all pairs again", Effect: "asks both sides for the other: reach, clock, what gets through", Do: func() tea.Cmd {
			return func() tea.Msg {
				if _, err := v.app.CheckPairs(v.ctx); err != nil {
					return view.Failed(err)
				}
				return view.Notice{Text: "all pairs were tried"}
			}
		}})
	}
	return out
}
