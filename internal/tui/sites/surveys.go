package sites

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/core/usage"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// lookedUp is what is connected, and how its surveys went.
type lookedUp struct {
	connections []workspace.Connection
	surveys     map[string]app.Survey
	coverage    map[string][]app.Covered
	pairs       []sites.Pair
	claims      []usage.Claim
	wakes       map[string]time.Time
	workers     []app.Worker
}

// askAgain is after how long sites are asked again what is left of them, where no template is designed with.
const askAgain = 10 * time.Second

// offered is what the sites offer.
type offered struct{ estate *estate.Estate }

// askSites asks the sites what is left of them, where no template is designed with, now and again.
func (v *View) askSites() tea.Cmd {
	if v.draft != nil || time.Since(v.asked) < askAgain {
		return nil
	}
	v.asked = time.Now()
	return func() tea.Msg {
		e, _ := v.app.Estate(v.ctx) // of those that answer; the others are told of by their surveys
		return offered{e}
	}
}

// lookUp looks the connections and surveys up.
func (v *View) lookUp() tea.Cmd {
	return func() tea.Msg {
		out := lookedUp{surveys: map[string]app.Survey{}, coverage: map[string][]app.Covered{}}
		var err error
		if out.connections, err = v.app.Connections(); err != nil {
			return view.Failed(err)
		}
		for _, c := range out.connections {
			if s, err := v.app.LastSurvey(v.ctx, c.Site); err == nil {
				out.surveys[c.Site] = s
			}
		}
		if out.pairs, err = v.app.Pairs(v.ctx); err != nil {
			return view.Failed(err)
		}
		all, err := v.app.Coverage(v.ctx)
		if err != nil {
			return view.Failed(err)
		}
		for _, c := range all {
			out.coverage[c.Site] = append(out.coverage[c.Site], c)
		}
		if out.claims, err = v.app.Claims(v.ctx); err != nil {
			return view.Failed(err)
		}
		if out.wakes, err = v.waking(); err != nil {
			return view.Failed(err)
		}
		if out.workers, err = v.app.Workers(v.ctx); err != nil {
			return view.Failed(err)
		}
		return out
	}
}

// waking is when deployments that have off hours are switched on next, by the subjects of that.
func (v *View) waking() (map[string]time.Time, error) {
	c, err := v.app.Clock(v.ctx, time.Now(), 0)
	if err != nil {
		return nil, err
	}
	out := map[string]time.Time{}
	for _, x := range c.Next {
		if x.Kind == promise.DueOn {
			out[x.Subject] = x.At
		}
	}
	return out, nil
}

// wakesAt is when a deployment's machines at a site are switched on next, by the clock there where they follow the sun; zero if nobody knows.
func (v *View) wakesAt(deployment int64, site string) time.Time {
	if at, all := v.wakes[promise.Subject(deployment, "")]; all {
		return at
	}
	for i := range v.connections {
		if c := &v.connections[i]; c.Site == site {
			return v.wakes[promise.Subject(deployment, c.TimeZone)]
		}
	}
	return time.Time{}
}

// count is how many sites are listed: those of the estate, else those that are connected.
func (v *View) count() int { return max(len(v.loads), len(v.unloaded())) }

// unloaded are connected sites of which the estate on screen knows nothing.
func (v *View) unloaded() []workspace.Connection {
	var out []workspace.Connection
	known := map[string]bool{}
	for _, l := range v.loads {
		known[l.Site.Name] = true
	}
	for _, c := range v.connections {
		if !known[c.Site] {
			out = append(out, c)
		}
	}
	return out
}

// siteName is the selected site's name.
func (v *View) siteName() string {
	switch rest := v.unloaded(); {
	case v.at < len(v.loads):
		return v.loads[v.at].Site.Name
	case len(v.loads) == 0 && v.at < len(rest):
		return rest[v.at].Site
	}
	return ""
}

// test tries the connection to a site.
func (v *View) test(name string) tea.Cmd {
	return func() tea.Msg {
		c, err := v.app.Connection(name)
		if err != nil {
			return view.Failed(err)
		}
		t, err := v.app.Test(v.ctx, c)
		if err != nil {
			return view.Failed(err)
		}
		text := fmt.Sprintf("%s answers in %d ms; %s may %s", name, t.Took.Milliseconds(), t.Access.Account, strings.Join(t.Access.May, ", "))
		if len(t.Access.MayNot) > 0 {
			text += "; may not " + strings.Join(t.Access.MayNot, ", ")
		}
		return view.Notice{Text: text}
	}
}

// surveyLine says in a line how the survey of a site goes, or how old it is and what failed.
func (v *View) surveyLine(name string, now time.Time) (string, part.Ink) {
	s, known := v.surveys[name]
	switch {
	case !known:
		return "not surveyed yet · s surveys", part.Ochre
	case s.State == app.SurveyGoing && now.Sub(s.Beat) < 10*time.Second:
		done := 0
		for _, p := range s.Parts {
			if p.State != app.SurveyGoing {
				done++
			}
		}
		return fmt.Sprintf("◩ surveying · %s, %d of %d regions", printable.Count(s.Found(), "thing"), done, len(s.Parts)), part.Sky
	}
	var failed []string
	for _, c := range v.coverage[name] {
		if c.Error != "" {
			failed = append(failed, c.Region)
		}
	}
	if len(failed) > 0 {
		return fmt.Sprintf("✕ surveyed %s · not whole: %s", part.Age(s.Started, now), strings.Join(failed, ", ")), part.Coral
	}
	text := fmt.Sprintf("surveyed %s · %s", part.Age(s.Started, now), printable.Count(s.Found(), "thing"))
	if s.State == app.SurveyFailed || s.State == app.SurveyStopped {
		return "✕ survey " + string(s.State) + " " + part.Age(s.Started, now), part.Coral
	}
	for _, c := range v.connections {
		if c.Site == name {
			if next, err := c.Next(now); err == nil && !next.IsZero() {
				text += " · next " + next.Local().Format("15:04")
			}
		}
	}
	return text, part.Dim
}

// Actions are what can be done to the selected site.
func (v *View) Actions() []view.Action {
	if v.app == nil || v.path != nil {
		return nil
	}
	out := []view.Action{{Name: "connect a site", Effect: "asks step by step, and tries it before anything is kept", Do: func() tea.Cmd { v.path = newPath(); return nil }}}
	name := v.siteName()
	if name == "" {
		return out
	}
	out = append(out, v.pairActs(name)...)
	out = append(out, v.reachActs(name)...)
	return append(out,
		view.Action{Name: "survey " + name, Effect: "lists everything that is there, region by region; changes nothing", Do: func() tea.Cmd { return v.survey(name) }},
		view.Action{Name: "survey " + name + " deeply", Effect: "goes into the instances of deployments too: system, packages, what listens, who talks to whom",
			Do: func() tea.Cmd { return v.surveyAs(name, true) }},
		view.Action{Name: "test the connection to " + name, Effect: "says what the credential may and may not do; changes nothing", Do: func() tea.Cmd { return v.test(name) }},
		view.Action{Name: "change the credential of " + name, Effect: "has the site make a new one; the old one is worth nothing then", Do: func() tea.Cmd { return v.rotate(name) }},
		view.Action{Name: "remove " + name, Type: name, Effect: "forgets its address, its credential and what was observed there; records stay. Refused while something of a deployment stands there.",
			Do: func() tea.Cmd { return v.remove(name) }})
}

func (v *View) rotate(name string) tea.Cmd {
	return func() tea.Msg {
		if err := v.app.Rotate(v.ctx, name, ""); err != nil {
			return view.Failed(err)
		}
		return view.Notice{Text: name + " has a new credential"}
	}
}

func (v *View) remove(name string) tea.Cmd {
	return func() tea.Msg {
		if err := v.app.Disconnect(v.ctx, name); err != nil {
			return view.Failed(err)
		}
		return tea.BatchMsg{view.Cmd(view.SitesChanged{}), v.lookUp(), view.Cmd(view.Notice{Text: name + " is removed"})}
	}
}

// drawUnloaded lists connected sites of which no estate is on screen.
func (v *View) drawUnloaded(c *part.Canvas, r part.Rect, now time.Time) {
	rest := v.unloaded()
	if len(rest) == 0 && v.app != nil && v.surveys == nil {
		c.Text(r.X+2, r.Y+2, part.In(part.Dim), "looking")
		return
	}
	if len(rest) == 0 {
		c.Cut(r.X+2, r.Y+2, r.W-4, part.In(part.Text).Strong(), "no site is connected yet")
		x := c.Text(r.X+2, r.Y+4, part.In(part.Ochre), "n")
		c.Text(x+1, r.Y+4, part.In(part.Dim), "connects one, step by step; andamio sandbox starts stand-ins to try")
		return
	}
	for i, s := range rest {
		y := r.Y + 1 + 3*i
		if y+1 >= r.Y+r.H {
			return
		}
		if v.at == i && len(v.loads) == 0 {
			c.Fill(part.Rect{X: r.X, Y: y, W: r.W, H: 2}, part.OnSelected)
			c.Rune(r.X, y, part.In(part.Ochre).Strong(), c.Look.Glyphs.PickLeft)
		}
		c.Cut(r.X+2, y, 16, part.In(part.Text).Strong(), s.Site)
		c.Cut(r.X+20, y, 10, part.In(part.Dim), string(s.Kind))
		x := r.X + 32
		if mark := exposed(s); mark != "" {
			x = c.Text(x, y, part.In(part.Coral), mark) + 2
		}
		c.Cut(x, y, r.X+r.W-2-x, part.In(part.Steel), strings.TrimSuffix(s.Address()+" · "+s.Account, " · "))
		text, ink := v.surveyLine(s.Site, now)
		if how, tone := v.through(&s, now); tone == part.Coral { // which says more than when it was surveyed
			text, ink = "✕ "+how[0], tone
		}
		c.Cut(r.X+2, y+1, r.W-4, part.In(ink), text)
		if len(v.loads) == 0 {
			v.spots = append(v.spots, spot{y, 2, i})
		}
	}
}

// exposed says in a word or two what must be told of a connection wherever its site is, such as that it is in clear.
func exposed(c workspace.Connection) string {
	word, _, _ := strings.Cut(c.Exposed(), ":")
	return word
}

// through says through which workers a site is reached, a line each, since when each is there, and how far the site is from it.
func (v *View) through(c *workspace.Connection, now time.Time) ([]string, part.Ink) {
	if c.Through == "" {
		return nil, part.Dim
	}
	var there, not []string
	whom := c.Workers()
	through := "through " + whom.Whom()
	for i := range v.workers {
		w := &v.workers[i]
		if !whom.Means(w.Pool, w.Labels) {
			continue
		}
		r, known := w.Sites[c.Site]
		switch {
		case !known:
			there = append(there, fmt.Sprintf("%s: %s, joined %s, not measured yet", through, w.Name, part.Age(w.Since, now)))
		case r.Failed != "":
			not = append(not, w.Name)
		default:
			there = append(there, fmt.Sprintf("%s: %s %.1f ms, joined %s", through, w.Name, 1000*r.Seconds, part.Age(w.Since, now)))
		}
	}
	switch {
	case len(there) > 0:
		return there, part.Dim
	case len(not) > 0:
		return []string{through + ", and not reached by " + strings.Join(not, ", ")}, part.Coral
	}
	return []string{through + ", and no worker of it is there; steps wait " + part.Span(whom.Patience())}, part.Coral
}

// unreached says in a few words that no worker reaches a site that is reached through them.
func (v *View) unreached(name string, now time.Time) string {
	for i := range v.connections {
		if c := &v.connections[i]; c.Site == name {
			if _, ink := v.through(c, now); ink == part.Coral {
				return "no worker reaches it"
			}
		}
	}
	return ""
}

// exposedSite says so of the connection of a site.
func (v *View) exposedSite(name string) string {
	for _, c := range v.connections {
		if c.Site == name {
			return exposed(c)
		}
	}
	return ""
}

// connected says how the selected site is connected: whose credential, which regions, which filter, which schedule, and through whom; it returns how many rows that takes.
func (p *page) connected(name string, y int) int {
	for _, c := range p.v.connections {
		if c.Site != name || y+1 >= p.r.Y+p.r.H {
			continue
		}
		text := "credential of " + orDash(c.Account)
		if !c.Rotated.IsZero() {
			text += ", changed " + part.Age(c.Rotated, p.now)
		}
		end := p.c.Cut(p.r.X+2, y, p.rooms()-p.r.X-4, part.In(part.Text), text)
		if t := c.Says(); t != "" {
			p.c.Cut(end+2, y, p.rooms()-end-4, part.In(map[bool]part.Ink{true: part.Coral, false: part.Dim}[c.Exposed() != ""]), t)
		}
		regions, only := "all regions", ""
		if len(c.Regions) > 0 {
			regions = "only " + strings.Join(c.Regions, ", ")
		}
		if n := len(c.Filter.Kinds) + len(c.Filter.Tags); n > 0 {
			only = " · filtered"
		}
		p.c.Cut(p.r.X+2, y+1, p.rooms()-p.r.X-4, part.In(part.Dim), regions+only+" · "+orDash(c.Schedule)+" "+c.TimeZone)
		lines, ink := p.v.through(&c, p.now)
		for i, line := range lines {
			if y+2+i < p.r.Y+p.r.H {
				p.c.Cut(p.r.X+2, y+2+i, p.rooms()-p.r.X-4, part.In(ink), line)
			}
		}
		return 2 + len(lines)
	}
	return 2
}
