package tui

import (
	"context"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"
)

// pace is how often screens are drawn that one process draws for many who are elsewhere: each as often as the eye likes it while there are few, and all of them together no more often than leaves the machine to
// whom else it serves. What somebody does at their screen is drawn at once.
type pace struct{ screens atomic.Int64 }

// elsewhere are the screens that this process draws for those who are elsewhere.
var elsewhere pace

// Between two frames of a screen that nobody does anything at there is so much time for each screen that is drawn, and no more than is bearable.
const (
	betweenEach = 8 * time.Millisecond
	betweenMost = 500 * time.Millisecond
	// touchedFor is for how long after somebody did something all that comes of it is drawn at once.
	touchedFor = time.Second
)

// join has a screen be one of those until its context ends.
func (p *pace) join(ctx context.Context) *paced {
	p.screens.Add(1)
	context.AfterFunc(ctx, func() { p.screens.Add(-1) })
	return &paced{of: p}
}

func (p *pace) between() time.Duration {
	return min(time.Duration(p.screens.Load())*betweenEach, betweenMost)
}

// paced is when a screen was drawn, and when something was done at it.
type paced struct {
	of             *pace
	drawn, touched time.Time
	last           tea.View
	// waits says that it will be drawn once its time has come.
	waits bool
}

// due is the message that the time of a screen has come.
type due struct{}

// touch says that somebody did something.
func (p *paced) touch(now time.Time) { p.touched = now }

// left is for how long a screen is not drawn yet; 0 is that it is drawn now.
func (p *paced) left(now time.Time) time.Duration {
	if now.Sub(p.touched) < touchedFor {
		return 0
	}
	return max(0, p.of.between()-now.Sub(p.drawn))
}

// wait has the screen be drawn once its time has come, if that is not now.
func (p *paced) wait(now time.Time) tea.Cmd {
	left := p.left(now)
	if left == 0 || p.waits {
		return nil
	}
	p.waits = true
	return tea.Tick(left, func(time.Time) tea.Msg { return due{} })
}

// paced has a message be heard, and what it changed be drawn in its time.
func (f *frame) paced(msg tea.Msg, hear func(tea.Msg) tea.Cmd) tea.Cmd {
	if f.pace == nil {
		return hear(msg)
	}
	switch msg.(type) {
	case due:
		f.pace.waits = false
		return nil
	case tea.KeyPressMsg, tea.PasteMsg, tea.MouseClickMsg, tea.MouseWheelMsg, tea.WindowSizeMsg:
		f.pace.touch(time.Now())
	}
	return tea.Batch(hear(msg), f.pace.wait(time.Now()))
}

// View draws the whole screen, unless it was drawn just now.
func (f *frame) View() tea.View {
	if f.pace == nil {
		return f.whole()
	}
	if now := time.Now(); !f.pace.waits || f.pace.left(now) == 0 {
		f.pace.drawn, f.pace.last = now, f.whole()
	}
	return f.pace.last
}
