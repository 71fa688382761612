package sites

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/huh/v2"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/printable"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// path is the way to a connected site, question by question. Each answer is checked as it is typed; the connection is
// tried before anything is kept.
type path struct {
	at    int
	steps []step
	// texts are the typed answers, by the steps' ids.
	texts map[string]string
	// driver, kind, regions and schedule are what is chosen.
	driver   string
	kind     estate.Kind
	regions  []string
	schedule string
	// form asks the question of the step.
	form  *huh.Form
	width int
	// tested is what came of trying; trying says that it is under way, saving that the site is being kept.
	tested         *sites.Tested
	failed         error
	trying, saving bool
}

// step is one question. Those that the driver asks have it.
type step struct {
	id, word, question, about string
	asks                      *workspace.Question
}

// The steps that every site has.
var (
	stepKind     = step{id: "kind", word: "kind", question: "what sort of site is it?", about: "It decides what people are told of it: placement rules and costs tell private, edge and public apart."}
	stepName     = step{id: "name", word: "name", question: "what does the site call itself?", about: "Small letters, digits and hyphens. Plans and prices know it by this name."}
	stepDriver   = step{id: "driver", word: "speaks", question: "what does it speak?", about: "What is asked next depends on it."}
	stepZone     = step{id: "zone", word: "time zone", question: "in which time zone is it?", about: "By its name, such as Europe/Lisbon or UTC. Schedules are meant in it."}
	stepRegions  = step{id: "regions", word: "regions", question: "which regions are surveyed?", about: "space takes one out or in. Fewer regions make surveys shorter; nothing in the others is found then."}
	stepFilter   = step{id: "filter", word: "filter", question: "only some kinds or tags?", about: "Empty is everything. Kinds and tags between commas, such as: instance, volume, owner=telemetry"}
	stepSchedule = step{id: "schedule", word: "schedule", question: "when is it surveyed?", about: "In the site's time zone. s surveys at any time; sites that send notices are up to date in between."}
	stepSave     = step{id: "save", word: "connect", question: "connect it, and survey it now", about: "The credential goes into the vault, everything else into the workspace."}
)

// stepsOf are the steps to a site of a driver. What is secret is asked last before the connection is tried.
func stepsOf(d *workspace.Driver, drivers int) []step {
	out := []step{stepKind, stepName}
	if drivers > 1 {
		out = append(out, stepDriver)
	}
	var secret []step
	for i := range d.Questions {
		q := &d.Questions[i]
		x := step{id: "driver." + q.Word, word: q.Word, question: q.Text, about: q.About, asks: q}
		if q.Secret() {
			secret = append(secret, x)
		} else {
			out = append(out, x)
		}
	}
	return append(append(append(out, stepZone), secret...), stepRegions, stepFilter, stepSchedule, stepSave)
}

var (
	kindChoices = []estate.Kind{estate.Private, estate.Edge, estate.Public}
	schedules   = []struct{ word, rule string }{{"every hour", "FREQ=HOURLY"}, {"every six hours", "FREQ=HOURLY;INTERVAL=6"},
		{"every night at half past two", "FREQ=DAILY;BYHOUR=2;BYMINUTE=30;BYSECOND=0"}, {"on working days at seven", "FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;BYHOUR=7;BYMINUTE=0;BYSECOND=0"},
		{"by hand alone", ""}}
)

func newPath() *path {
	p := &path{kind: kindChoices[0], schedule: schedules[0].rule, width: usualWidth, driver: workspace.DriverNames()[0], texts: map[string]string{stepZone.id: "UTC"}}
	p.steps = stepsOf(p.speaks(), len(workspace.Drivers()))
	return p
}

// usualWidth is how wide a question is before it was drawn, mostTyped how long an answer may get.
const (
	usualWidth = 64
	mostTyped  = 400
)

// speaks is the driver that was chosen.
func (p *path) speaks() *workspace.Driver {
	d, err := workspace.DriverNamed(p.driver)
	if err != nil {
		return workspace.Drivers()[0]
	}
	return d
}

// step is the step that is asked, is whether it is a certain one, and tries whether the connection is tried after it.
func (p *path) step() *step        { return &p.steps[p.at] }
func (p *path) is(x step) bool     { return p.step().id == x.id }
func (p *path) tries() bool        { return p.at+1 < len(p.steps) && p.steps[p.at+1].id == stepRegions.id }
func (p *path) text(x step) string { return strings.TrimSpace(p.texts[x.id]) }

// ask makes the form of the step. The last has none: it shows what was answered.
func (p *path) ask() tea.Cmd {
	var field huh.Field
	typed := p.texts[p.step().id]
	switch p.step().id {
	case stepKind.id:
		field = huh.NewSelect[estate.Kind]().Options(huh.NewOptions(kindChoices...)...).Height(len(kindChoices) + 1).Value(&p.kind)
	case stepDriver.id:
		var all []huh.Option[string]
		for _, d := range workspace.Drivers() {
			all = append(all, huh.NewOption(fmt.Sprintf("%-10s %s", d.Name, d.About), d.Name))
		}
		field = huh.NewSelect[string]().Options(all...).Height(len(all) + 1).Value(&p.driver)
	case stepSchedule.id:
		var all []huh.Option[string]
		for _, s := range schedules {
			all = append(all, huh.NewOption(fmt.Sprintf("%-30s %s", s.word, s.rule), s.rule))
		}
		field = huh.NewSelect[string]().Options(all...).Height(len(all) + 1).Value(&p.schedule)
	case stepRegions.id:
		field = huh.NewMultiSelect[string]().Filterable(false).Options(huh.NewOptions(p.tested.Access.Regions...)...).Height(len(p.tested.Access.Regions) + 1).Value(&p.regions)
	case stepSave.id:
		p.form = nil
		return nil
	default:
		input := huh.NewInput().Prompt("▐ ").CharLimit(mostTyped).Key(typedKey).Value(&typed)
		if q := p.step().asks; q != nil && q.Secret() {
			input.EchoMode(huh.EchoModePassword)
		}
		field = input
	}
	keys := huh.NewDefaultKeyMap()
	keys.Select.Filter.SetEnabled(false)
	p.form = huh.NewForm(huh.NewGroup(field)).WithShowHelp(false).WithShowErrors(false).WithTheme(part.FormTheme()).WithKeyMap(keys).WithWidth(p.width)
	return p.form.Init()
}

// typedKey is under which a form has what is typed.
const typedKey = "typed"

// hear gives a message to the form. An answer that the trying was about makes it void.
func (p *path) hear(msg tea.Msg) tea.Cmd {
	if _, resized := msg.(tea.WindowSizeMsg); p.form == nil || resized {
		return nil // it has a part of the window, which drawing tells it
	}
	next, cmd := p.form.Update(msg)
	p.form = next.(*huh.Form)
	if f := p.form.GetFocusedField(); f != nil && f.GetKey() == typedKey {
		p.typed(fmt.Sprint(f.GetValue()))
	}
	return cmd
}

// typed takes what is typed by now.
func (p *path) typed(text string) {
	if p.texts[p.step().id] == text {
		return
	}
	p.texts[p.step().id] = text
	if p.at <= p.lastTried() {
		p.tested, p.failed = nil, nil
	}
}

// lastTried is the last step that the trying is about.
func (p *path) lastTried() int {
	return slices.IndexFunc(p.steps, func(x step) bool { return x.id == stepRegions.id }) - 1
}

// keys are those of the step.
func (p *path) keys() []view.Key {
	enter, esc := "goes on", "back"
	switch {
	case p.tries():
		enter = "tries it"
	case p.is(stepSave):
		enter = "connects it"
	}
	if p.at == 0 {
		esc = "leave"
	}
	first := []view.Key{view.On("enter tab", "enter", enter, "takes the answer and goes on; after the credential the connection is tried, at the end it is kept", nil),
		view.On("esc shift+tab", "esc", esc, "goes back to the question before; nothing is kept", nil)}
	switch p.step().id {
	case stepKind.id, stepDriver.id, stepSchedule.id:
		return append(first, view.On(view.UpDown, "↑↓", "choose", "lights the choice before or after", nil))
	case stepRegions.id:
		if t := p.tested; t != nil && len(t.Access.Regions) == 0 {
			return first
		}
		return append(first, view.On(view.UpDown, "↑↓", "choose", "lights the region before or after", nil), view.On("space", "space", "in or out", "takes the lit region in or out", nil))
	case stepSave.id:
		return first
	}
	return view.FieldKeys(first...)
}

// connection is what the answers come to. What is wrong with one is said before one goes on.
func (p *path) connection() workspace.Connection {
	c := workspace.Connection{Site: p.texts[stepName.id], Kind: p.kind, TimeZone: p.text(stepZone), Schedule: p.schedule}
	if p.driver != workspace.DriverNames()[0] {
		c.Driver = p.driver
	}
	for _, x := range p.steps {
		if x.asks == nil {
			continue
		}
		if v, err := x.asks.Answer(p.texts[x.id]); err == nil {
			_ = c.Tell(v)
		}
	}
	if p.tested != nil && len(p.regions) < len(p.tested.Access.Regions) {
		c.Regions = slices.Clone(p.regions)
	}
	c.Filter = workspace.FilterOf(strings.Split(p.texts[stepFilter.id], ","))
	return c
}

// wrong says what is the matter with the answer to a step, "" if nothing is.
func (v *View) wrong(x *step) string {
	p, text := v.path, v.path.text(*x)
	if x.asks != nil {
		return p.wrongAnswer(x)
	}
	switch x.id {
	case stepName.id:
		if text == "" {
			return "a name is needed"
		}
		if err := v.app.CheckSiteName(text); err != nil {
			return err.Error()
		}
	case stepZone.id:
		if _, err := time.LoadLocation(text); err != nil || text == "" {
			return "there is no time zone of this name"
		}
	case stepRegions.id:
		if p.tested != nil && len(p.tested.Access.Regions) > 0 && len(p.regions) == 0 {
			return "one region at least"
		}
	}
	return ""
}

// wrongAnswer says what is the matter with an answer to one of the driver's questions, by itself or with those before it.
func (p *path) wrongAnswer(x *step) string {
	f := x.asks.Single()
	if f != nil && f.Needed && p.text(*x) == "" {
		return "the " + x.word + " is needed"
	}
	said, err := x.asks.Answer(p.texts[x.id])
	if err == nil && f != nil && f.Check != nil && said[f.Name] != "" {
		_, err = f.Check(said[f.Name])
	}
	if err == nil && f == nil {
		err = p.connection().CheckSettings()
	}
	if err != nil {
		return err.Error()
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
	case name == "esc" && p.at == 0:
		v.path = nil
		return nil, true
	case name == "esc", name == "shift+tab":
		p.at, p.failed = max(p.at-1, 0), nil
		return p.ask(), true
	case name == "enter", name == "tab":
		return v.next(), true
	}
	return p.hear(msg), true
}

// next goes on if the answer is good; after the credential the connection is tried, at the end it is kept.
func (v *View) next() tea.Cmd {
	p := v.path
	if v.wrong(p.step()) != "" {
		return nil
	}
	switch {
	case p.tries():
		p.trying, p.failed = true, nil
		c := p.connection()
		return func() tea.Msg {
			t, err := v.app.Test(v.ctx, c)
			return triedPath{p, t, err}
		}
	case p.is(stepSave):
		p.saving = true
		c := p.connection()
		return func() tea.Msg {
			_, err := v.app.Connect(v.ctx, c)
			return keptPath{p, c.Site, err}
		}
	}
	if p.is(stepDriver) {
		p.steps = stepsOf(p.speaks(), len(workspace.Drivers()))
	}
	p.at++
	return p.ask()
}

// Messages of the path: it was tried, and it was kept.
type (
	triedPath struct {
		p   *path
		t   *sites.Tested
		err error
	}
	keptPath struct {
		p    *path
		site string
		err  error
	}
	surveyed struct {
		s   app.Survey
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
	p.at++
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
	return tea.Batch(view.Cmd(view.SitesChanged{}), view.Cmd(view.Notice{Text: msg.site + " is connected; it is being surveyed"}), v.lookUp(), v.survey(msg.site))
}

// survey surveys a site.
func (v *View) survey(name string) tea.Cmd { return v.surveyAs(name, false) }

func (v *View) surveyAs(name string, deep bool) tea.Cmd {
	return func() tea.Msg {
		s, err := v.app.Survey(v.ctx, reconcile.SurveyRequest{Site: name, Deep: deep})
		s.Site = name
		return surveyed{s, err}
	}
}

func (v *View) surveyDone(msg surveyed) tea.Cmd {
	text := fmt.Sprintf("%s is surveyed: %s; 7 Reconcile says what they are", msg.s.Site, printable.Count(msg.s.Found(), "thing"))
	if msg.err != nil {
		return tea.Batch(v.lookUp(), view.Cmd(view.Failed(msg.err)))
	}
	if msg.s.State != app.SurveyDone {
		text = fmt.Sprintf("%s was not surveyed whole; the strip says what failed", msg.s.Site)
	}
	return tea.Batch(v.lookUp(), view.Cmd(view.Notice{Text: text, Bad: msg.s.State != app.SurveyDone}))
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
	if 2*len(v.path.steps) > r.H-2 {
		apart = 1
	}
	for i := range v.path.steps {
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
	case i == p.at:
		mark, ink = "◩", part.Ochre
		c.Fill(part.Rect{X: x - 1, Y: y, W: w + 2, H: 1}, part.OnSelected)
	case i < p.at:
		mark, ink = "■", part.Teal
	}
	if c.Look.Mark("standing") == "#" {
		mark = map[string]string{"▱": "o", "◩": ">", "■": "#"}[mark]
	}
	c.Text(x, y, part.In(ink), mark)
	end := c.Text(x+2, y, part.In(map[bool]part.Ink{true: part.Text, false: part.Dim}[i <= p.at]), p.steps[i].word)
	if i < p.at && w > 20 {
		c.Cut(end+2, y, x+w-end-2, part.In(part.Dim), v.answered(i))
	}
	if i > 0 && apart {
		c.Rune(x, y-1, part.In(part.Dim), c.Look.Glyphs.Down)
	}
}

// answered is an answer in a word; secrets are never shown.
func (v *View) answered(i int) string {
	p := v.path
	x := &p.steps[i]
	if x.asks != nil {
		return p.answeredDriver(x)
	}
	switch x.id {
	case stepKind.id:
		return string(p.kind)
	case stepDriver.id:
		return p.driver
	case stepRegions.id:
		if c := p.connection(); len(c.Regions) > 0 {
			return strings.Join(c.Regions, ", ")
		}
		return "all"
	case stepFilter.id:
		if p.texts[x.id] == "" {
			return "everything"
		}
	case stepSchedule.id:
		for _, s := range schedules {
			if s.rule == p.schedule {
				return s.word
			}
		}
	}
	return p.texts[x.id]
}

// answeredDriver is an answer to one of the driver's questions in a word: what it comes to, or that it is kept back.
func (p *path) answeredDriver(x *step) string {
	f := x.asks.Single()
	switch {
	case x.asks.Secret():
		return "kept back"
	case f == nil && p.text(*x) != "":
		return cmp.Or(p.connection().Says(), p.text(*x))
	case p.texts[x.id] != "":
		return strings.TrimPrefix(p.comesTo(x), "https://")
	}
	return x.asks.Unsaid
}

// comesTo is what the typed answer to a question of one field is kept as.
func (p *path) comesTo(x *step) string {
	text := p.text(*x)
	if f := x.asks.Single(); f != nil && f.Check != nil {
		if full, err := f.Check(text); err == nil {
			return full
		}
	}
	return text
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
	switch x := p.step(); {
	case p.is(stepSchedule):
		conn := p.connection()
		if next, err := conn.Next(time.Now()); err == nil && !next.IsZero() {
			c.Text(r.X, y, part.In(part.Dim), "then next "+next.Format("Monday 15:04 MST"))
			y += 2
		}
	case x.asks != nil && x.asks.Single() != nil && x.asks.Single().Check != nil && p.text(*x) != "" && v.wrong(x) == "":
		c.Cut(r.X, y, r.W, part.In(part.Dim), "that is "+p.comesTo(x))
		y += 2
	}
	return v.verdict(c, r.X, y, r.W)
}

// question draws what is asked, with what is to be known of it.
func (v *View) question(c *part.Canvas, r part.Rect) int {
	a := v.path.step()
	c.Text(r.X, r.Y, part.In(part.Ochre).Strong(), a.question)
	y := r.Y + 1
	about := a.about
	if t := v.path.tested; a.id == stepRegions.id && t != nil && len(t.Access.Regions) == 0 {
		about = "It tells of no regions: all of it is surveyed."
	}
	for _, l := range part.Wrap(about, r.W) {
		c.Text(r.X, y, part.In(part.Dim), l)
		y++
	}
	return y
}

// summary says before it is kept what was answered.
func (v *View) summary(c *part.Canvas, r part.Rect) int {
	y := r.Y
	for i := range len(v.path.steps) - 1 {
		c.Text(r.X, y, part.In(part.Dim), v.path.steps[i].word)
		c.Cut(r.X+14, y, r.W-14, part.In(part.Text), v.answered(i))
		y++
	}
	return y
}

// verdict says what is wrong, what is under way, or what enter does.
func (v *View) verdict(c *part.Canvas, x, y, w int) int {
	p := v.path
	wrong := v.wrong(p.step())
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
	case wrong != "" && (p.texts[p.step().id] != "" || p.is(stepRegions) || p.step().asks != nil && p.step().asks.Single() == nil):
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
	if p.tries() {
		does = "tries it"
	} else if p.is(stepSave) {
		does = "connects it and surveys it"
	}
	at = c.Text(at+1, y, part.In(part.Dim), does) + 3
	at = c.Text(at, y, part.In(part.Ochre), "esc")
	c.Text(at+1, y, part.In(part.Dim), map[bool]string{true: "leaves", false: "goes back"}[p.at == 0])
	return y + 1
}

// known is what the site told when it was tried.
func (v *View) known(c *part.Canvas, r part.Rect) {
	t := v.path.tested
	c.Text(r.X, r.Y, part.In(part.Steel).Strong(), "what the site says")
	y := r.Y + 2
	if t == nil {
		for _, l := range part.Wrap("nothing yet: it is asked as soon as all of that is said", r.W) {
			c.Text(r.X, y, part.In(part.Dim), l)
			y++
		}
		return
	}
	c.Cut(r.X, y, r.W, part.In(part.Teal), fmt.Sprintf("%s answers in %d ms", c.Look.Mark("standing"), t.Took.Milliseconds()))
	sizes := "any size" // which is what a site without sizes has
	if t.Sizes > 0 {
		sizes = printable.Count(t.Sizes, "size")
	}
	offers := slices.DeleteFunc([]string{string(t.Kind), t.Title, printable.Count(t.Zones, "zone"), sizes}, func(s string) bool { return s == "" })
	c.Cut(r.X, y+1, r.W, part.In(part.Text), strings.Join(offers, " · "))
	whose := "its credential"
	if t.Access.Account != "" {
		whose = "credential of " + t.Access.Account
	}
	c.Cut(r.X, y+3, r.W, part.In(part.Steel).Strong(), whose)
	y += 4
	if len(t.Access.May)+len(t.Access.MayNot) == 0 {
		c.Cut(r.X, y, r.W, part.In(part.Dim), "what it may do is not told")
		y++
	}
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
