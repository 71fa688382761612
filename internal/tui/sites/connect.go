package sites

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/printable"
	"andamio/internal/store"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// path is the way to a connected site, question by question. Each answer is checked as it is typed; the connection is
// tried before anything is kept.
type path struct {
	step  int
	texts [steps]string
	// pick is the choice that is lit where there are some; on are the regions that are chosen.
	pick [steps]int
	on   map[string]bool
	// tested is what came of trying; trying says that it is under way, saving that the site is being kept.
	tested         *app.Tested
	failed         error
	trying, saving bool
}

// The steps, in order.
const (
	askKind = iota
	askName
	askURL
	askZone
	askToken
	askRegions
	askFilter
	askSchedule
	askSave
	steps
)

// asks is a step's question, with what is to be known of it.
var asks = [steps]struct{ word, question, about string }{
	askKind:     {"kind", "what sort of site is it?", "It decides what people are told of it: placement rules and costs tell private, edge and public apart."},
	askName:     {"name", "what does the site call itself?", "Small letters, digits and hyphens. Plans and prices know it by this name."},
	askURL:      {"address", "where is it spoken to?", "HOST, HOST:PORT or a URL. Without a scheme it is https, without a port " + app.DefaultPort + "."},
	askZone:     {"time zone", "in which time zone is it?", "By its name, such as Europe/Lisbon or UTC. Schedules are meant in it."},
	askToken:    {"credential", "with which credential?", "It is not shown, and is kept encrypted. It is tried as soon as you press enter; nothing is changed at the site."},
	askRegions:  {"regions", "which regions are surveyed?", "space takes one out or in. Fewer regions make surveys shorter; nothing in the others is found then."},
	askFilter:   {"filter", "only some kinds or tags?", "Empty is everything. Kinds and tags between commas, such as: instance, volume, owner=telemetry"},
	askSchedule: {"schedule", "when is it surveyed?", "In the site's time zone. s surveys at any time; sites that send notices are up to date in between."},
	askSave:     {"connect", "connect it, and survey it now", "The credential goes into the vault, everything else into the workspace."},
}

var (
	kindChoices = []estate.Kind{estate.Private, estate.Edge, estate.Public}
	schedules   = []struct{ word, rule string }{{"every hour", "FREQ=HOURLY"}, {"every six hours", "FREQ=HOURLY;INTERVAL=6"},
		{"every night at half past two", "FREQ=DAILY;BYHOUR=2;BYMINUTE=30;BYSECOND=0"}, {"on working days at seven", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=7;BYMINUTE=0;BYSECOND=0"},
		{"by hand alone", ""}}
)

func newPath() *path {
	p := &path{on: map[string]bool{}}
	p.texts[askZone] = "UTC"
	return p
}

// connection is what the answers come to.
func (p *path) connection() app.Connection {
	c := app.Connection{Site: p.texts[askName], Kind: kindChoices[p.pick[askKind]], URL: p.texts[askURL], TimeZone: strings.TrimSpace(p.texts[askZone]),
		Token: strings.TrimSpace(p.texts[askToken]), Schedule: schedules[p.pick[askSchedule]].rule}
	if p.tested != nil {
		for _, r := range p.tested.Access.Regions {
			if p.on[r] {
				c.Regions = append(c.Regions, r)
			}
		}
		if len(c.Regions) == len(p.tested.Access.Regions) {
			c.Regions = nil
		}
	}
	c.Filter = app.FilterOf(strings.Split(p.texts[askFilter], ","))
	return c
}

// wrong says what is the matter with the answer to a step, "" if nothing is.
func (v *View) wrong(step int) string {
	p, text := v.path, strings.TrimSpace(v.path.texts[step])
	switch step {
	case askName:
		if text == "" {
			return "a name is needed"
		}
		return v.app.Workspace.WrongName(text)
	case askURL:
		if text == "" {
			return "an address is needed"
		}
		if _, err := app.SiteURL(text); err != nil {
			return err.Error()
		}
	case askZone:
		if _, err := time.LoadLocation(text); err != nil || text == "" {
			return "there is no time zone of this name"
		}
	case askToken:
		if text == "" {
			return "a credential is needed"
		}
	case askRegions:
		if p.tested != nil && len(p.tested.Access.Regions) > 0 && !slices.ContainsFunc(p.tested.Access.Regions, func(r string) bool { return p.on[r] }) {
			return "one region at least"
		}
	}
	return ""
}

// Raw takes the keys while the path is open: they are text.
func (v *View) Raw(k tea.KeyPressMsg) (tea.Cmd, bool) {
	if v.path == nil {
		return nil, false
	}
	name := k.String()
	if name == "ctrl+c" {
		return nil, false
	}
	p := v.path
	if p.trying || p.saving {
		if name == "esc" {
			v.path = nil
		}
		return nil, true
	}
	switch name {
	case "esc", "shift+tab":
		if p.step == 0 && name == "esc" {
			v.path = nil
		} else {
			p.step = max(p.step-1, 0)
		}
	case "enter", "tab":
		return v.next(), true
	case "up", "down", "left", "right":
		v.choose(map[string]int{"up": -1, "left": -1, "down": 1, "right": 1}[name])
	default:
		v.typed(name, k.Text)
	}
	return nil, true
}

// choose moves among the choices of a step.
func (v *View) choose(by int) {
	p := v.path
	n := map[int]int{askKind: len(kindChoices), askSchedule: len(schedules)}[p.step]
	if p.step == askRegions && p.tested != nil {
		n = len(p.tested.Access.Regions)
	}
	if n > 0 {
		p.pick[p.step] = (p.pick[p.step] + by + n) % n
	}
}

func (v *View) typed(name, text string) {
	p := v.path
	switch p.step {
	case askKind, askSchedule, askSave:
	case askRegions:
		if name == "space" && p.tested != nil && len(p.tested.Access.Regions) > 0 {
			r := p.tested.Access.Regions[p.pick[askRegions]]
			p.on[r] = !p.on[r]
		}
	default:
		if name == "space" {
			text = " "
		}
		p.texts[p.step] = view.Edited(p.texts[p.step], name, text, 400)
		if p.step <= askToken {
			p.tested, p.failed = nil, nil
		}
	}
}

// next goes on if the answer is good; after the credential the connection is tried, at the end it is kept.
func (v *View) next() tea.Cmd {
	p := v.path
	if v.wrong(p.step) != "" {
		return nil
	}
	switch p.step {
	case askToken:
		p.trying, p.failed = true, nil
		c := p.connection()
		return func() tea.Msg {
			t, err := v.app.Test(v.ctx, c)
			return triedPath{p, t, err}
		}
	case askSave:
		p.saving = true
		c := p.connection()
		return func() tea.Msg {
			_, err := v.app.Connect(v.ctx, c)
			return keptPath{p, c.Site, err}
		}
	}
	p.step++
	return nil
}

// Messages of the path: it was tried, and it was kept.
type (
	triedPath struct {
		p   *path
		t   *app.Tested
		err error
	}
	keptPath struct {
		p    *path
		site string
		err  error
	}
	surveyed struct {
		s   store.Survey
		err error
	}
)

func (v *View) tried(msg triedPath) {
	if v.path != msg.p {
		return // it was left meanwhile
	}
	p := v.path
	p.trying, p.tested, p.failed = false, msg.t, msg.err
	if msg.err != nil {
		return
	}
	for _, r := range msg.t.Access.Regions {
		p.on[r] = true
	}
	p.step++
}

func (v *View) kept(msg keptPath) tea.Cmd {
	if v.path != msg.p {
		return nil
	}
	v.path.saving = false
	if msg.err != nil {
		v.path.failed = msg.err
		return nil
	}
	v.path = nil
	return tea.Batch(view.Cmd(view.SitesChanged{}), view.Cmd(view.Told{Text: msg.site + " is connected; it is being surveyed"}), v.lookUp(), v.survey(msg.site))
}

// survey surveys a site.
func (v *View) survey(name string) tea.Cmd { return v.surveyAs(name, false) }

func (v *View) surveyAs(name string, deep bool) tea.Cmd {
	return func() tea.Msg {
		s, err := v.app.Survey(v.ctx, app.SurveyWish{Site: name, Deep: deep})
		s.Site = name
		return surveyed{s, err}
	}
}

func (v *View) surveyDone(msg surveyed) tea.Cmd {
	text := fmt.Sprintf("%s is surveyed: %s; 7 Reconcile says what they are", msg.s.Site, printable.Count(msg.s.Found(), "thing"))
	if msg.err != nil {
		return tea.Batch(v.lookUp(), view.Cmd(view.Told{Text: msg.err.Error(), Bad: true}))
	}
	if msg.s.State != store.SurveyDone {
		text = fmt.Sprintf("%s was not surveyed whole; the strip says what failed", msg.s.Site)
	}
	return tea.Batch(v.lookUp(), view.Cmd(view.Told{Text: text, Bad: msg.s.State != store.SurveyDone}))
}

// drawPath draws the way: the steps as the rungs of a ladder, the question, and what is known by now.
func (v *View) drawPath(c *part.Canvas, r part.Rect) {
	p := v.path
	c.Text(r.X+1, r.Y, part.In(part.Text).Strong(), "connect a site")
	c.Text(r.X+18, r.Y, part.In(part.Dim), "nothing is kept before the last step")
	ladder := 30
	if r.W < 100 {
		ladder = 16
	}
	y := r.Y + 2
	for i := range asks {
		v.rung(c, r.X+2, y+2*i, ladder-4, i)
	}
	x := r.X + ladder + 2
	w := min(r.X+r.W-x-2, 64)
	side := r.X + r.W - 46
	if r.W < 120 {
		side = 0
	} else {
		w = min(w, side-x-4)
	}
	c.Text(x, y, part.In(part.Ochre).Strong(), asks[p.step].question)
	line := y + 1
	for _, l := range part.Wrap(asks[p.step].about, w) {
		c.Text(x, line, part.In(part.Dim), l)
		line++
	}
	line = v.answer(c, x, line+1, w)
	if side > 0 {
		v.known(c, part.Rect{X: side, Y: y, W: 44, H: r.H - 3})
	} else if p.tested != nil {
		v.known(c, part.Rect{X: x, Y: line + 1, W: w, H: r.Y + r.H - line - 1})
	}
}

// rung is one step of the ladder: what was answered, what is asked, what is to come.
func (v *View) rung(c *part.Canvas, x, y, w, i int) {
	p := v.path
	mark, ink := "▱", part.Dim
	switch {
	case i == p.step:
		mark, ink = "◩", part.Ochre
		c.Fill(part.Rect{X: x - 1, Y: y, W: w + 2, H: 1}, part.OnSelected)
	case i < p.step:
		mark, ink = "■", part.Teal
	}
	if c.Look.Mark("standing") == "#" {
		mark = map[string]string{"▱": "o", "◩": ">", "■": "#"}[mark]
	}
	c.Text(x, y, part.In(ink), mark)
	end := c.Text(x+2, y, part.In(map[bool]part.Ink{true: part.Text, false: part.Dim}[i <= p.step]), asks[i].word)
	if i < p.step && w > 20 {
		c.Cut(end+2, y, x+w-end-2, part.In(part.Dim), v.answered(i))
	}
	if i > 0 {
		c.Rune(x, y-1, part.In(part.Dim), c.Look.Glyphs.Down)
	}
}

// answered is an answer in a word; credentials are never shown.
func (v *View) answered(i int) string {
	c := v.path.connection()
	switch i {
	case askKind:
		return string(c.Kind)
	case askURL:
		url, _ := app.SiteURL(c.URL)
		return strings.TrimPrefix(url, "https://")
	case askToken:
		return "kept back"
	case askRegions:
		if len(c.Regions) == 0 {
			return "all"
		}
		return strings.Join(c.Regions, ", ")
	case askFilter:
		if v.path.texts[askFilter] == "" {
			return "everything"
		}
	case askSchedule:
		return schedules[v.path.pick[askSchedule]].word
	}
	return v.path.texts[i]
}

// answer draws what is typed or chosen, and what is wrong with it; it returns the line after.
func (v *View) answer(c *part.Canvas, x, y, w int) int {
	p := v.path
	switch p.step {
	case askKind:
		for i, k := range kindChoices {
			option(c, x, y+i, w, i == p.pick[askKind], false, string(k))
		}
		y += len(kindChoices)
	case askSchedule:
		for i, s := range schedules {
			option(c, x, y+i, w, i == p.pick[askSchedule], false, fmt.Sprintf("%-30s %s", s.word, s.rule))
		}
		y += len(schedules)
		conn := p.connection()
		if next, err := conn.Next(time.Now()); err == nil && !next.IsZero() {
			c.Text(x, y+1, part.In(part.Dim), "then next "+next.Format("Monday 15:04 MST"))
		}
		y += 2
	case askRegions:
		for i, r := range p.tested.Access.Regions {
			mark := "▱ "
			if p.on[r] {
				mark = "■ "
			}
			option(c, x, y+i, w, i == p.pick[askRegions], p.on[r], mark+r)
		}
		y += max(len(p.tested.Access.Regions), 1)
	case askSave:
		for i := range askSave {
			c.Text(x, y, part.In(part.Dim), asks[i].word)
			c.Cut(x+14, y, w-14, part.In(part.Text), v.answered(i))
			y++
		}
		y++
	default:
		text := p.texts[p.step]
		if p.step == askToken {
			text = strings.Repeat("•", min(len([]rune(text)), w-2))
		}
		c.Fill(part.Rect{X: x, Y: y, W: w, H: 1}, part.OnSelected)
		c.Cut(x+1, y, w-1, part.In(part.Text), text+"▏")
		y++
		if url, err := app.SiteURL(p.texts[askURL]); p.step == askURL && err == nil && p.texts[askURL] != "" {
			c.Cut(x, y, w, part.In(part.Dim), "that is "+url)
			y++
		}
	}
	return v.verdict(c, x, y+1, w)
}

// verdict says what is wrong, what is under way, or what enter does.
func (v *View) verdict(c *part.Canvas, x, y, w int) int {
	p := v.path
	wrong := v.wrong(p.step)
	switch {
	case p.trying, p.saving:
		c.Text(x, y, part.In(part.Sky), c.Look.Mark("under way")+map[bool]string{true: " trying it", false: " keeping it"}[p.trying])
		return y + 1
	case p.failed != nil:
		c.Text(x, y, part.In(part.Coral), c.Look.Mark("failed"))
		for _, l := range part.Wrap(p.failed.Error(), w-2) {
			c.Text(x+2, y, part.In(part.Coral), l)
			y++
		}
		return y
	case wrong != "" && p.texts[p.step] != "" || wrong != "" && p.step == askRegions:
		for i, l := range part.Wrap(wrong, w-2) {
			if i == 0 {
				c.Text(x, y, part.In(part.Coral), c.Look.Mark("failed"))
			}
			c.Text(x+2, y, part.In(part.Coral), l)
			y++
		}
		return y
	}
	at := c.Text(x, y, part.In(part.Ochre), "enter")
	does := "goes on"
	if p.step == askToken {
		does = "tries it"
	} else if p.step == askSave {
		does = "connects it and surveys it"
	}
	at = c.Text(at+1, y, part.In(part.Dim), does) + 3
	at = c.Text(at, y, part.In(part.Ochre), "esc")
	c.Text(at+1, y, part.In(part.Dim), map[bool]string{true: "leaves", false: "goes back"}[p.step == 0])
	return y + 1
}

func option(c *part.Canvas, x, y, w int, lit, on bool, text string) {
	style := part.In(part.Text)
	if lit {
		c.Fill(part.Rect{X: x - 1, Y: y, W: w + 1, H: 1}, part.OnSelected)
		style = style.Strong()
	}
	if on {
		style.Fg = part.Teal
	}
	c.Cut(x, y, w-1, style, text)
}

// known is what the site told when it was tried.
func (v *View) known(c *part.Canvas, r part.Rect) {
	t := v.path.tested
	c.Text(r.X, r.Y, part.In(part.Steel).Strong(), "what the site says")
	y := r.Y + 2
	if t == nil {
		for _, l := range part.Wrap("nothing yet: it is asked once the credential is there", r.W) {
			c.Text(r.X, y, part.In(part.Dim), l)
			y++
		}
		return
	}
	c.Cut(r.X, y, r.W, part.In(part.Teal), fmt.Sprintf("%s answers in %d ms", c.Look.Mark("standing"), t.Took.Milliseconds()))
	c.Cut(r.X, y+1, r.W, part.In(part.Text), fmt.Sprintf("%s · %s · %d zones · %d sizes", t.Kind, t.Title, t.Zones, t.Sizes))
	c.Cut(r.X, y+3, r.W, part.In(part.Steel).Strong(), "credential of "+t.Access.Account)
	y += 4
	for _, right := range t.Access.May {
		c.Text(r.X, y, part.In(part.Teal), c.Look.Mark("standing")+" may "+right)
		y++
	}
	for _, right := range t.Access.MayNot {
		c.Text(r.X, y, part.In(part.Coral), c.Look.Mark("failed")+" may not "+right)
		y++
	}
	y++
	for _, w := range t.Warns {
		for _, l := range part.Wrap(w, r.W) {
			if y < r.Y+r.H {
				c.Text(r.X, y, part.In(part.Ochre), l)
			}
			y++
		}
	}
}
