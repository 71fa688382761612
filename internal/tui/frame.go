package tui

import (
	"context"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"andamio/internal/app"
	"andamio/internal/core/health"
	"andamio/internal/core/run"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/runs"
	"andamio/internal/service/templates"
	"andamio/internal/tui/catalogue"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// frame is the root model: tabs above, keys below, the current view between, and notes and questions over it.
type frame struct {
	ctx    context.Context
	cancel context.CancelFunc
	app    *app.App
	// narrow says that whoever looks sees only what concerns them: nothing is found beyond their views.
	narrow  bool
	options Options
	// pace is how often it is drawn; nil is always.
	pace    *paced
	look    *part.Look
	light   bool
	profile colorprofile.Profile
	w, h    int
	views   []view.View
	current int
	// guest lies in the place of the current view until it is left.
	guest view.View
	runs  []app.Run
	// inv and template are what was compared and drafted last: their findings and nodes can be found.
	inv      *reconcile.Inventory
	health   []health.Deployment
	template *templates.Template
	now      time.Time
	ticks    int
	told     view.Notice
	toldAt   time.Time
	over     overlay
	tabs     []part.Rect
}

type tick time.Time

// Ticks: ages and clocks move four times a second, runs are looked up each second.
const (
	tickEvery  = 250 * time.Millisecond
	ticksARun  = 4
	toldStays  = 12 * time.Second
	smallWidth = 60
)

func (f *frame) Init() tea.Cmd {
	f.now = time.Now()
	cmds := []tea.Cmd{f.tick(), f.lookUpRuns()}
	if !f.options.Light {
		cmds = append(cmds, tea.RequestBackgroundColor)
	}
	for _, v := range f.views {
		cmds = append(cmds, v.Update(started{}))
	}
	return tea.Batch(cmds...)
}

type started struct{}

func (f *frame) tick() tea.Cmd {
	return tea.Tick(tickEvery, func(t time.Time) tea.Msg { return tick(t) })
}

func (f *frame) lookUpRuns() tea.Cmd {
	if f.narrow { // the views look by themselves
		return view.Cmd(view.Runs{})
	}
	return func() tea.Msg {
		runs, err := f.app.Runs(f.ctx)
		if err != nil {
			return view.Failed(err)
		}
		return view.Runs{Runs: runs}
	}
}

// Update hears what happens and what is done.
func (f *frame) Update(msg tea.Msg) (tea.Model, tea.Cmd) { return f, f.paced(msg, f.update) }

func (f *frame) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		f.w, f.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		f.light = !msg.IsDark()
		f.dress()
	case tea.ColorProfileMsg:
		f.profile = msg.Profile
		f.dress()
	case tea.KeyPressMsg, tea.PasteMsg:
		return f.hear(msg)
	case tea.MouseClickMsg:
		return f.click(msg.X, msg.Y)
	case tea.MouseWheelMsg:
		f.wheel(msg)
		return nil
	case tick:
		f.now = time.Time(msg)
		cmds := []tea.Cmd{f.tick()}
		if f.ticks++; f.ticks%ticksARun == 0 { // counted: ticks drift, and a clock's remainder would skip some
			cmds = append(cmds, f.lookUpRuns())
		}
		return tea.Batch(cmds...)
	case view.Goto:
		f.show(msg.Digit)
	case view.Notice:
		f.told, f.toldAt = msg, time.Now()
	case view.Preview:
		guest, cmd := catalogue.Preview(f.ctx, f.app.As(app.Actor{Name: msg.Who, Way: app.ByScreen}), msg.Offer)
		f.guest, f.over = guest, nil
		return cmd
	case view.Leave:
		f.guest = nil
	case view.Tell:
		f.over = &note{msg.Note, 0}
	case view.Confirm:
		f.over = ask(msg.Act)
	case view.Prompt:
		f.over = newPrompt(msg.Act)
	case view.Runs:
		f.runs = msg.Runs
		f.answered()
	case view.Compared:
		f.inv = msg.Inventory
	case view.Health:
		f.health = msg.All
		f.answered()
	case view.Drafted:
		f.template = msg.Draft.Template
	case view.Show:
		f.show(digitOf[msg.Thing.Kind])
	case gathered:
		msg.to.take(msg)
	}
	var cmds []tea.Cmd
	for _, v := range f.views {
		cmds = append(cmds, v.Update(msg))
	}
	if f.guest != nil {
		cmds = append(cmds, f.guest.Update(msg))
	}
	return tea.Batch(cmds...)
}

// answered takes back what was said of an answer that did not come: there is one by now.
func (f *frame) answered() {
	if f.told.Late {
		f.told = view.Notice{}
	}
}

// digitOf are the views in which things are shown.
var digitOf = map[reconcile.ThingKind]string{reconcile.ASite: "1", reconcile.ATemplate: "2", reconcile.ARun: "4", reconcile.ADeployment: "5", reconcile.AResource: "5", reconcile.AFinding: "7", reconcile.ARecord: "7"}

// dress makes the theme for what is known of the terminal.
func (f *frame) dress() { f.look = part.NewLook(f.light, f.options.ASCII, f.profile) }

func (f *frame) view() view.View {
	if f.guest != nil {
		return f.guest
	}
	return f.views[f.current]
}

func (f *frame) show(digit string) bool {
	for i, v := range f.views {
		if v.Digit() == digit {
			f.current, f.over, f.guest = i, nil, nil
			return true
		}
	}
	return false
}

// hear gives what is typed or pasted to what is on top: what lies over the view, a text or a shell in the view, the view's
// keys, the frame's.
func (f *frame) hear(msg tea.Msg) tea.Cmd {
	name := named(msg)
	if f.over == nil && f.typing() {
		if cmd, used := f.view().(view.Typist).Type(msg); used {
			return cmd
		}
	}
	if name == "ctrl+c" {
		return f.quit()
	}
	if f.over != nil {
		next, cmd := f.over.hear(msg)
		f.over = next
		return cmd
	}
	if cmd, used := view.Press(f.view().Keys(), name); used {
		return cmd
	}
	cmd, _ := view.Press(f.keys(), name)
	return cmd
}

// typing reports whether a text or a shell in the view takes what is typed.
func (f *frame) typing() bool {
	t, ok := f.view().(view.Typist)
	return ok && t.Typing()
}

// keys are the frame's own: they mean the same in every view that does not use them itself.
func (f *frame) keys() []view.Key {
	var digits []string
	for _, v := range f.views {
		digits = append(digits, v.Digit())
	}
	all := []view.Key{
		view.On("w", "w", "why", "says the reasons behind what is selected", view.Then(func() { f.over = &note{f.view().Why(), 0} })),
		view.On("a", "a", "acts", "lists what can be done to what is selected, and what each does", view.Run(f.acts)),
		view.On("ctrl+f", "ctrl+f", "find", "finds anything anywhere, by its name or address, and goes there", view.Run(f.finder)),
		view.On("?", "?", "keys", "lists all keys", view.Then(func() { f.over = &note{view.Note{Title: "all keys", Lines: f.allKeys()}, 0} })),
		view.On("/", "/", "find here", "finds a text in this view, and selects it", view.Then(func() { f.over = newFind(f.view()) })),
		view.On("e", "e", "export", "writes the pictures of this view as SVG and PDF", view.Run(f.export)),
		view.On(strings.Join(digits, " "), digits[0]+"–"+digits[len(digits)-1], "views", "shows the view of that digit", func(name string) tea.Cmd { f.show(name); return nil }),
		view.On("q", "q", "leave", "leaves; a run goes on without the screens", view.Run(f.quit)),
	}
	return slices.DeleteFunc(all, func(k view.Key) bool {
		return f.narrow && k.Help().Key == "ctrl+f" || f.options.Remote && k.Help().Key == "e" // no files are written here for who is elsewhere
	})
}

// inTheBar is how many of the frame's keys the bar shows in every view.
const inTheBar = 4

func (f *frame) acts() tea.Cmd {
	acts := f.view().Actions()
	if f.options.Remote {
		acts = slices.DeleteFunc(acts, func(a view.Action) bool { return a.Here })
	}
	if len(acts) == 0 {
		return view.Cmd(view.Notice{Text: "nothing can be done here now"})
	}
	f.over = &menu{acts: acts}
	return nil
}

func (f *frame) export() tea.Cmd {
	if cmd := f.view().Export(); cmd != nil {
		return cmd
	}
	return view.Cmd(view.Notice{Text: "there is no picture to export here"})
}

func (f *frame) quit() tea.Cmd {
	f.cancel()
	return tea.Quit
}

func (f *frame) click(x, y int) tea.Cmd {
	for i, r := range f.tabs {
		if r.Inside(x, y) {
			f.current, f.over = i, nil
			return nil
		}
	}
	if f.over != nil {
		return nil
	}
	return f.view().Click(x, y)
}

func (f *frame) wheel(m tea.MouseWheelMsg) {
	dy := 1
	if m.Button == tea.MouseWheelUp {
		dy = -1
	}
	if n, ok := f.over.(*note); ok {
		n.scroll = max(n.scroll+dy*3, 0)
		return
	}
	f.view().Wheel(dy)
}

func (f *frame) allKeys() []view.Line {
	lines := []view.Line{view.Head("in " + f.view().Name())}
	for _, k := range f.view().Keys() {
		lines = append(lines, keyLine(k))
	}
	lines = append(lines, view.Say(""), view.Head("everywhere"))
	for _, k := range f.keys() {
		lines = append(lines, keyLine(k))
	}
	return append(lines, keyLine(view.On("esc", "esc", "back", "goes back, or closes what lies over the view", nil)))
}

func keyLine(k view.Key) view.Line {
	shown := k.Help().Key
	return view.Line{Text: "  " + shown + strings.Repeat(" ", max(10-part.Width(shown), 1)) + k.Says, Hang: 12}
}

// goesOn is the newest run that is under way, 0 if none is.
func (f *frame) goesOn() int64 {
	for _, r := range f.runs {
		if r.State == run.UnderWay && !runs.Abandoned(r, time.Now()) {
			return r.ID
		}
	}
	return 0
}
