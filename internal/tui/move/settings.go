package move

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/tui/view"
)

// setting is one thing that is chosen of a move. It is changed to the next of its possible values, or asked for.
type setting struct {
	name, value, says string
	// own says that it is not what it would be if nobody chose.
	own  bool
	next func()
	ask  *view.Action
	// head stands before what is meant for the target.
	head string
}

// settings are what can be chosen of the move that is planned, with what is possible where it goes.
func (v *View) settings() []setting {
	out := append(v.copyingSettings(), v.thereSettings()...)
	w := &v.wish
	rules := setting{name: "rules", value: "kept", says: "what the template and the administrator demand of where it may be; where a move would break one, it is said and can be lifted"}
	if len(w.Lift) > 0 {
		rules.value, rules.own, rules.next = "lifted: "+strings.Join(w.Lift, ", "), true, func() { w.Lift = nil }
	}
	return append(out, rules)
}

// modes says of each mode what it means.
var modes = []struct {
	mode change.Mode
	says string
}{
	{change.Warm, "copied while it runs, stops for the last round"},
	{change.Live, "answers throughout, held up for the last round"},
	{change.Cold, "stops first, then is copied"},
}

func (v *View) copyingSettings() []setting {
	w := &v.wish
	at := slices.IndexFunc(modes, func(m struct {
		mode change.Mode
		says string
	}) bool {
		return m.mode == w.Mode
	})
	out := []setting{
		{name: "while it moves", value: string(w.Mode), says: modes[at].says, own: w.Mode != change.Warm, next: func() { w.Mode = modes[(at+1)%len(modes)].mode }},
		{name: "cut over", value: either(w.AtOnce, "as soon as it can be", "when you say"), says: "rounds go on until then", own: w.AtOnce, next: func() { w.AtOnce = !w.AtOnce }},
		{name: "may stand still", value: pauseWord(w.Pause, w.Mode), says: "what is left is less than can be copied in that time, before it is cut over", own: w.Pause > 0,
			ask: number("may stand still", "seconds, 0 for as long as it takes", &w.Pause, 1)},
		{name: "at most", value: either(w.Limit > 0, fmt.Sprintf("%.0f MB/s", float64(w.Limit)/1e6), "as much as gets through"), says: "bounds what is copied in a second", own: w.Limit > 0, ask: v.limitAct()},
		{name: "compressed", value: either(w.Compress == "", "when it pays", w.Compress), says: "on the way, with zstd; it pays where the way is slower than compressing", own: w.Compress != "",
			next: func() { w.Compress = map[string]string{"": "on", "on": "off", "off": ""}[w.Compress] }},
		{name: "rounds", value: either(w.KeepLayers, "kept apart until the commit", "made one at once"),
			says: either(w.KeepLayers, "less to do before the cutover; reading looks through all rounds until the commit", "takes time in each round now; reading is as fast as ever from the first"),
			own:  w.KeepLayers, next: func() { w.KeepLayers = !w.KeepLayers }},
		{name: "window", value: either(w.Window == "", "any time", fmt.Sprintf("%g h, %s", w.Hours, w.Window)), says: "copying goes on in it alone, again and again until it is done", own: w.Window != "", ask: v.windowAct()},
	}
	if w.Mode == change.Cold {
		out = slices.DeleteFunc(out, func(s setting) bool {
			return s.name == "cut over" || s.name == "may stand still" || s.name == "rounds"
		})
	}
	return out
}

func either(yes bool, a, b string) string {
	if yes {
		return a
	}
	return b
}

func pauseWord(seconds float64, mode change.Mode) string {
	switch {
	case seconds > 0:
		return fmt.Sprintf("%g s", seconds)
	case mode == change.Live:
		return "0.3 s"
	}
	return "as long as it takes"
}

// number asks for a number that is not negative, in units of so much.
func number(name, what string, into *float64, unit float64) *view.Action {
	return &view.Action{Name: name, Ask: what, Wrong: func(text string) string {
		if x, err := strconv.ParseFloat(text, 64); err != nil || x < 0 {
			return "a number is meant"
		}
		return ""
	}, Answer: func(text string) tea.Cmd {
		x, _ := strconv.ParseFloat(text, 64)
		*into = x * unit
		return nil
	}}
}

func (v *View) limitAct() *view.Action {
	bytes := 0.0
	act := number("at most", "megabytes a second, 0 for no limit", &bytes, 1e6)
	set := act.Answer
	act.Answer = func(text string) tea.Cmd {
		set(text)
		v.wish.Limit = int64(bytes)
		return nil
	}
	return act
}

// windowAct asks when copying may go on.
func (v *View) windowAct() *view.Action {
	return &view.Action{Name: "window", Ask: "hours, and a recurrence rule; 0 for any time",
		Effect: "Copying goes on in this window alone, again and again until it is done. For example: 6 FREQ=WEEKLY;BYDAY=SA;BYHOUR=22;BYMINUTE=0;BYSECOND=0",
		Answer: func(text string) tea.Cmd {
			hours, rule, _ := strings.Cut(strings.TrimSpace(text), " ")
			n, err := strconv.ParseFloat(hours, 64)
			if err != nil || n > 0 && rule == "" {
				return view.Cmd(view.Notice{Text: "say for how many hours, and then when", Bad: true})
			}
			if v.wish.Hours, v.wish.Window = n, rule; n == 0 {
				v.wish.Window = ""
			}
			return nil
		}}
}

// choice is what is chosen for where it goes: for all, or for the workload under the cursor alone.
func (v *View) choice() (c migrate.Choice, set func(migrate.Choice)) {
	id := v.alone()
	if id == "" {
		return v.wish.Like, func(c migrate.Choice) { v.wish.Like = c }
	}
	c, said := v.wish.Each[id]
	if !said {
		c = v.wish.Like
	}
	return c, func(c migrate.Choice) {
		if v.wish.Each == nil {
			v.wish.Each = map[string]migrate.Choice{}
		}
		v.wish.Each[id] = c
	}
}

// alone is the workload for which alone something is chosen, "" for all.
func (v *View) alone() string {
	if v.only && len(v.rows) > 0 {
		return v.rows[v.cursor].id
	}
	return ""
}

// thereSettings are what can be chosen of where it goes.
func (v *View) thereSettings() []setting {
	c, set := v.choice()
	site := v.estateSite(v.target())
	_, ids := v.chosen()
	head := "there"
	switch id := v.alone(); {
	case id != "":
		head = "there, for " + id + " alone"
	case len(ids) > 1:
		head = fmt.Sprintf("there, for all %d", len(ids))
	}
	pick := func(name, usual, says, now string, values []string, put func(*migrate.Choice, string)) setting {
		s := setting{name: name, value: either(now == "", usual, now), says: says, own: now != ""}
		if all := append([]string{""}, values...); len(values) > 0 {
			s.next = func() {
				put(&c, all[(slices.Index(all, now)+1)%len(all)])
				set(c)
			}
		}
		return s
	}
	typed := func(name, usual, says, now, ask string, put func(*migrate.Choice, string)) setting {
		return setting{name: name, value: either(now == "", usual, now), says: says, own: now != "", ask: &view.Action{Name: name, Ask: ask, Effect: says, Answer: func(text string) tea.Cmd {
			put(&c, strings.TrimSpace(text))
			set(c)
			return nil
		}}}
	}
	var out []setting
	if site != nil { // where placement chooses the site it chooses these as well
		out = append(out,
			pick("zone", "with the most room", "where it has room", c.Zone, zonesOf(site), func(c *migrate.Choice, x string) { c.Zone = x }),
			pick("size", "the cheapest, no less", "sizes that the site offers", c.Size, sizesOf(site), func(c *migrate.Choice, x string) { c.Size = x }),
			pick("network", "the one it is in", "networks of the design that are there; the one it is in is built there if need be", c.Network, v.networksAt(site.Name), func(c *migrate.Choice, x string) { c.Network = x }),
			pick("storage class", "the site's usual", "of all its disks", c.Class, classesOf(site), func(c *migrate.Choice, x string) { c.Class = x }))
	}
	out = append(out,
		typed("address", "one of the pool", "inside its network: keep, or the address that it is to have", c.Address, "keep, an address, or nothing for one of the pool", func(c *migrate.Choice, x string) { c.Address = x }),
		setting{name: "hardware address", value: either(c.KeepMAC, "kept", "a new one"), says: "of its interfaces", own: c.KeepMAC, next: func() { c.KeepMAC = !c.KeepMAC; set(c) }},
		typed("host name", "kept", "of the machine itself; the name that users know is another", c.Hostname, "host name, or nothing to keep it", func(c *migrate.Choice, x string) { c.Hostname = x }))
	out[0].head = head
	return out
}

func zonesOf(s *estate.Site) []string {
	var out []string
	for _, z := range s.Zones {
		out = append(out, z.Name)
	}
	return out
}

func sizesOf(s *estate.Site) []string {
	var out []string
	for _, z := range s.Sizes {
		out = append(out, z.Name)
	}
	return out
}

func classesOf(s *estate.Site) []string {
	var out []string
	for _, c := range s.Storage {
		out = append(out, c.Name)
	}
	return out
}

// networksAt are the networks that the chosen deployment has at a site.
func (v *View) networksAt(site string) []string {
	deployment, _ := v.chosen()
	if deployment < 0 {
		return nil
	}
	seen := map[string]bool{}
	p := v.deployments[deployment].Stand.Plan
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Network && r.Site == site {
			seen[r.Node] = true
		}
	}
	return slices.Sorted(maps.Keys(seen))
}

func (v *View) estateSite(name string) *estate.Site {
	if v.estate == nil || name == "" {
		return nil
	}
	return v.estate.Site(name)
}

// alter changes the setting that is selected.
func (v *View) alter() tea.Cmd {
	all := v.settings()
	s := all[min(v.knob, len(all)-1)]
	switch {
	case s.ask != nil:
		return view.Cmd(view.Prompt{Act: *s.ask})
	case s.next != nil:
		s.next()
	}
	return nil
}
