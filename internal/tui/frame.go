package tui

import (
	"context"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"andamio/internal/app"
	"andamio/internal/core/run"
	"andamio/internal/store"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// frame is the root model: tabs above, keys below, the current view between, and notes and questions over it.
type frame struct {
	ctx     context.Context
	cancel  context.CancelFunc
	app     *app.App
	options Options
	look    *part.Look
	light   bool
	profile colorprofile.Profile
	w, h    int
	views   []view.View
	current int
	runs    []store.Run
	now     time.Time
	ticks   int
	told    view.Told
	toldAt  time.Time
	over    overlay
	tabs    []part.Rect
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
	return func() tea.Msg {
		runs, err := f.app.Store.Runs(f.ctx)
		if err != nil {
			return view.Told{Text: err.Error(), Bad: true}
		}
		return view.Runs{Runs: runs}
	}
}

func (f *frame) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		f.w, f.h = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		f.light = !msg.IsDark()
		f.dress()
	case tea.ColorProfileMsg:
		f.profile = msg.Profile
		f.dress()
	case tea.KeyPressMsg:
		return f, f.key(msg)
	case tea.MouseClickMsg:
		return f, f.click(msg.X, msg.Y)
	case tea.MouseWheelMsg:
		f.wheel(msg)
		return f, nil
	case tick:
		f.now = time.Time(msg)
		cmds := []tea.Cmd{f.tick()}
		if f.ticks++; f.ticks%ticksARun == 0 { // counted: ticks drift, and a clock's remainder would skip some
			cmds = append(cmds, f.lookUpRuns())
		}
		return f, tea.Batch(cmds...)
	case view.Goto:
		f.show(msg.Digit)
	case view.Told:
		f.told, f.toldAt = msg, time.Now()
	case view.Confirm:
		f.over = ask(msg.Act)
	case view.Prompt:
		f.over = &prompt{act: msg.Act}
	case view.Runs:
		f.runs = msg.Runs
	}
	var cmds []tea.Cmd
	for _, v := range f.views {
		cmds = append(cmds, v.Update(msg))
	}
	return f, tea.Batch(cmds...)
}

// dress makes the theme for what is known of the terminal.
func (f *frame) dress() { f.look = part.NewLook(f.light, f.options.ASCII, f.profile) }

func (f *frame) view() view.View { return f.views[f.current] }

func (f *frame) show(digit string) bool {
	for i, v := range f.views {
		if v.Digit() == digit {
			f.current, f.over = i, nil
			return true
		}
	}
	return false
}

// key gives a key to what is on top: an overlay, then the view, then the frame.
func (f *frame) key(k tea.KeyPressMsg) tea.Cmd {
	name := k.String()
	if raw, ok := f.view().(view.Raw); ok && f.over == nil {
		if cmd, used := raw.Raw(k); used {
			return cmd
		}
	}
	if name == "ctrl+c" {
		return f.quit()
	}
	if f.over != nil {
		next, cmd := f.over.key(name, k.Text)
		f.over = next
		return cmd
	}
	if cmd, used := f.view().Key(name); used {
		return cmd
	}
	switch name {
	case "q":
		return f.quit()
	case "?":
		f.over = &note{view.Note{Title: "all keys", Lines: f.allKeys()}, 0}
	case "w":
		f.over = &note{f.view().Why(), 0}
	case "a":
		if acts := f.view().Acts(); len(acts) > 0 {
			f.over = &menu{acts: acts}
		} else {
			return view.Cmd(view.Told{Text: "nothing can be done here now"})
		}
	case "/":
		f.over = &find{f.view(), ""}
	case "e":
		if cmd := f.view().Export(); cmd != nil {
			return cmd
		}
		return view.Cmd(view.Told{Text: "there is no picture to export here"})
	default:
		f.show(name)
	}
	return nil
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
	var tabs []string
	for _, v := range f.views {
		tabs = append(tabs, v.Digit()+" "+v.Name())
	}
	for _, k := range []view.Key{{Key: strings.Join(tabs, "  "), Does: ""}, {Key: "a", Does: "acts on what is selected"},
		{Key: "w", Does: "why: the reasons behind what is selected"}, {Key: "/", Does: "find"}, {Key: "e", Does: "export the pictures as SVG and PDF"},
		{Key: "esc", Does: "back"}, {Key: "q", Does: "leave; a run goes on without the screens"}} {
		lines = append(lines, keyLine(k))
	}
	return lines
}

func keyLine(k view.Key) view.Line {
	if k.Does == "" {
		return view.Say("  " + k.Key)
	}
	return view.Say("  " + k.Key + strings.Repeat(" ", max(12-part.Width(k.Key), 1)) + k.Does)
}

// goesOn is the newest run that is under way, 0 if none is.
func (f *frame) goesOn() int64 {
	for _, r := range f.runs {
		if r.State == run.UnderWay && !app.Abandoned(r, time.Now()) {
			return r.ID
		}
	}
	return 0
}
