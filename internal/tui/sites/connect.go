package sites

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/huh/v2"

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
	// kind, regions and schedule are what is chosen.
	kind     estate.Kind
	regions  []string
	schedule string
	// form asks the question of the step.
	form  *huh.Form
	width int
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
	askTrust
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
	askKind: {"kind", "what sort of site is it?", "It decides what people are told of it: placement rules and costs tell private, edge and public apart."},
	askName: {"name", "what does the site call itself?", "Small letters, digits and hyphens. Plans and prices know it by this name."},
	askURL:  {"address", "where is it spoken to?", "HOST, HOST:PORT or a URL. Without a scheme it is https, without a port " + app.DefaultPort + "."},
	askTrust: {"trust", "how is it known to be the right one?", "Empty trusts whom this machine trusts. Between commas: authority FILE, pin DIGEST, certificate FILE, key FILE; " +
		"or in clear, for http over a network: then everything can be read on the way, and the site is marked so."},
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
	p := &path{kind: kindChoices[0], schedule: schedules[0].rule, width: usualWidth}
	p.texts[askZone] = "UTC"
	return p
}

// usualWidth is how wide a question is before it was drawn, mostTyped how long an answer may get.
const (
	usualWidth = 64
	mostTyped  = 400
)

// ask makes the form of the step. The last has none: it shows what was answered.
func (p *path) ask() tea.Cmd {
	var field huh.Field
	switch p.step {
	case askKind:
		field = huh.NewSelect[estate.Kind]().Options(huh.NewOptions(kindChoices...)...).Height(len(kindChoices)).Value(&p.kind)
	case askSchedule:
		var all []huh.Option[string]
		for _, s := range schedules {
			all = append(all, huh.NewOption(fmt.Sprintf("%-30s %s", s.word, s.rule), s.rule))
		}
		field = huh.NewSelect[string]().Options(all...).Height(len(all)).Value(&p.schedule)
	case askRegions:
		field = huh.NewMultiSelect[string]().Filterable(false).Options(huh.NewOptions(p.tested.Access.Regions...)...).Height(max(len(p.tested.Access.Regions), 1)).Value(&p.regions)
	case askSave:
		p.form = nil
		return nil
	default:
		input := huh.NewInput().Prompt("▐ ").CharLimit(mostTyped).Value(&p.texts[p.step])
		if p.step == askToken {
			input.EchoMode(huh.EchoModePassword)
		}
		field = input
	}
	keys := huh.NewDefaultKeyMap()
	keys.Select.Filter.SetEnabled(false)
	p.form = huh.NewForm(huh.NewGroup(field)).WithShowHelp(false).WithShowErrors(false).WithTheme(part.FormTheme()).WithKeyMap(keys).WithWidth(p.width)
	return p.form.Init()
}

// hear gives a message to the form. An answer that the trying was about makes it void.
func (p *path) hear(msg tea.Msg) tea.Cmd {
	if _, resized := msg.(tea.WindowSizeMsg); p.form == nil || resized {
		return nil // it has a part of the window, which drawing tells it
	}
	before := p.texts
	next, cmd := p.form.Update(msg)
	p.form = next.(*huh.Form)
	if p.step <= askToken && p.texts != before {
		p.tested, p.failed = nil, nil
	}
	return cmd
}

// keys are those of the step.
func (p *path) keys() []view.Key {
	enter, esc := "goes on", "back"
	switch p.step {
	case askToken:
		enter = "tries it"
	case askSave:
		enter = "connects it"
	}
	if p.step == 0 {
		esc = "leave"
	}
	first := []view.Key{view.On("enter tab", "enter", enter, "takes the answer and goes on; after the credential the connection is tried, at the end it is kept", nil),
		view.On("esc shift+tab", "esc", esc, "goes back to the question before; nothing is kept", nil)}
	switch p.step {
	case askKind, askSchedule:
		return append(first, view.On(view.UpDown, "↑↓", "choose", "lights the choice before or after", nil))
	case askRegions:
		return append(first, view.On(view.UpDown, "↑↓", "choose", "lights the region before or after", nil), view.On("space", "space", "in or out", "takes the lit region in or out", nil))
	case askSave:
		return first
	}
	return view.FieldKeys(first...)
}

// connection is what the answers come to.
func (p *path) connection() app.Connection {
	c := app.Connection{Site: p.texts[askName], Kind: p.kind, URL: p.texts[askURL], TimeZone: strings.TrimSpace(p.texts[askZone]),
		Token: strings.TrimSpace(p.texts[askToken]), Schedule: p.schedule}
	if p.tested != nil && len(p.regions) < len(p.tested.Access.Regions) {
		c.Regions = slices.Clone(p.regions)
	}
	_ = c.SetTrust(p.texts[askTrust]) // what is wrong with it is said before one goes on
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
	case askTrust:
		c := p.connection()
		if err := c.SetTrust(text); err != nil {
			return err.Error()
		}
		if err := c.CheckTrust(); err != nil {
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
		if p.tested != nil && len(p.tested.Access.Regions) > 0 && len(p.regions) == 0 {
			return "one region at least"
		}
	}
	return ""
}

// Typing reports whether the path is open: it takes what is typed.
func (v *View) Typing() bool { return v.path != nil }

// Type goes on, goes back, or gives the form what is typed or pasted.
func (v *View) Type(msg tea.Msg) (tea.Cmd, bool) {
	p, name := v.path, ""
	if k, ok := msg.(tea.KeyPressMsg); ok {
		name = k.String()
	}
	switch {
	case name == "ctrl+c":
		return nil, false
	case p.trying, p.saving:
		if name == "esc" {
			v.path = nil
		}
		return nil, true
	case name == "esc" && p.step == 0:
		v.path = nil
		return nil, true
	case name == "esc", name == "shift+tab":
		p.step, p.failed = max(p.step-1, 0), nil
		return p.ask(), true
	case name == "enter", name == "tab":
		return v.next(), true
	}
	return p.hear(msg), true
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
	return p.ask()
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

func (v *View) tried(msg triedPath) tea.Cmd {
	if v.path != msg.p {
		return nil // it was left meanwhile
	}
	p := v.path
	p.trying, p.tested, p.failed = false, msg.t, msg.err
	if msg.err != nil {
		return nil
	}
	p.regions = slices.Clone(msg.t.Access.Regions)
	p.step++
	return p.ask()
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
	y, apart := r.Y+2, 2
	if 2*len(asks) > r.H-2 {
		apart = 1
	}
	for i := range asks {
		v.rung(c, r.X+2, y+apart*i, ladder-4, i, apart > 1)
	}
	x := r.X + ladder + 2
	w := min(r.X+r.W-x-2, 64)
	side := r.X + r.W - 46
	if r.W < 120 {
		side = 0
	} else {
		w = min(w, side-x-4)
	}
	line := v.answer(c, part.Rect{X: x, Y: y, W: w, H: r.Y + r.H - y})
	if side > 0 {
		v.known(c, part.Rect{X: side, Y: y, W: 44, H: r.H - 3})
	} else if p.tested != nil {
		v.known(c, part.Rect{X: x, Y: line + 1, W: w, H: r.Y + r.H - line - 1})
	}
}

// rung is one step of the ladder: what was answered, what is asked, what is to come.
func (v *View) rung(c *part.Canvas, x, y, w, i int, apart bool) {
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
	if i > 0 && apart {
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
	case askTrust:
		if s := c.Trusts(); s != "" {
			return s
		}
		return "as this machine"
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
		for _, s := range schedules {
			if s.rule == v.path.schedule {
				return s.word
			}
		}
	}
	return v.path.texts[i]
}

// answer draws the question with what is typed or chosen, and what is to be said of it; it returns the line after.
func (v *View) answer(c *part.Canvas, r part.Rect) int {
	p, y := v.path, v.question(c, r)+1
	if p.form == nil {
		return v.verdict(c, r.X, v.summary(c, part.Rect{X: r.X, Y: y, W: r.W, H: r.H})+1, r.W)
	}
	if p.width != r.W {
		p.width = r.W
		p.form.WithWidth(r.W)
	}
	y += c.Styled(part.Rect{X: r.X, Y: y, W: r.W, H: r.Y + r.H - y}, p.form.View()) + 1
	switch p.step {
	case askSchedule:
		conn := p.connection()
		if next, err := conn.Next(time.Now()); err == nil && !next.IsZero() {
			c.Text(r.X, y, part.In(part.Dim), "then next "+next.Format("Monday 15:04 MST"))
			y += 2
		}
	case askURL:
		if url, err := app.SiteURL(p.texts[askURL]); err == nil && p.texts[askURL] != "" {
			c.Cut(r.X, y, r.W, part.In(part.Dim), "that is "+url)
			y += 2
		}
	}
	return v.verdict(c, r.X, y, r.W)
}

// question draws what is asked, with what is to be known of it.
func (v *View) question(c *part.Canvas, r part.Rect) int {
	a := asks[v.path.step]
	c.Text(r.X, r.Y, part.In(part.Ochre).Strong(), a.question)
	y := r.Y + 1
	for _, l := range part.Wrap(a.about, r.W) {
		c.Text(r.X, y, part.In(part.Dim), l)
		y++
	}
	return y
}

// summary says before it is kept what was answered.
func (v *View) summary(c *part.Canvas, r part.Rect) int {
	y := r.Y
	for i := range askSave {
		c.Text(r.X, y, part.In(part.Dim), asks[i].word)
		c.Cut(r.X+14, y, r.W-14, part.In(part.Text), v.answered(i))
		y++
	}
	return y
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
	case wrong != "" && p.texts[p.step] != "" || wrong != "" && (p.step == askRegions || p.step == askTrust):
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
