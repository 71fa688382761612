package tui

import (
	"context"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
)

// pace is when screens are drawn that one process draws for many who are elsewhere: one after the other, so that all of them together leave the machine to whom else it serves, and none has it to itself for long. What
// somebody does at their screen is drawn at once.
type pace struct {
	mu      sync.Mutex
	screens int
	// next is when the next screen may be drawn.
	next time.Time
}

// elsewhere are the screens that this process draws for those who are elsewhere.
var elsewhere pace

// From one screen to the next there is so much time, and less where a round of all of them would take too long.
const (
	betweenTwo = 12 * time.Millisecond
	mostARound = 750 * time.Millisecond
	// touchedFor is for how long after somebody did something all that comes of it is drawn at once.
	touchedFor = time.Second
)

// join has a screen be one of those until its context ends.
func (p *pace) join(ctx context.Context) *paced {
	p.add(1)
	context.AfterFunc(ctx, func() { p.add(-1) })
	return &paced{of: p}
}

func (p *pace) add(n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.screens += n
}

// turn is for how long a screen waits until it is its turn; 0 is now.
func (p *pace) turn(now time.Time) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	at := now
	if p.next.After(now) {
		at = p.next
	}
	p.next = at.Add(min(betweenTwo, mostARound/time.Duration(max(1, p.screens))))
	return at.Sub(now)
}

// paced is how a screen is drawn in its turn.
type paced struct {
	of *pace
	// touched is when something was done at it last; waits says that its turn is to come.
	touched time.Time
	waits   bool
	last    tea.View
}

// due is the message that it is a screen's turn.
type due struct{}

// atOnce reports that somebody did something just now.
func (p *paced) atOnce(now time.Time) bool { return now.Sub(p.touched) < touchedFor }

// wait has the screen wait for its turn, if that is not now.
func (p *paced) wait(now time.Time) tea.Cmd {
	if p.waits || p.atOnce(now) {
		return nil
	}
	left := p.of.turn(now)
	if left == 0 {
		return nil
	}
	p.waits = true
	return tea.Tick(left, func(time.Time) tea.Msg { return due{} })
}

// paced has a message be heard, and what it changed be drawn in its turn.
func (f *frame) paced(msg tea.Msg, hear func(tea.Msg) tea.Cmd) tea.Cmd {
	if f.pace == nil {
		return hear(msg)
	}
	switch msg.(type) {
	case due:
		f.pace.waits = false
		return nil
	case tea.KeyPressMsg, tea.PasteMsg, tea.MouseClickMsg, tea.MouseWheelMsg, tea.WindowSizeMsg:
		f.pace.touched = time.Now()
	}
	return tea.Batch(hear(msg), f.pace.wait(time.Now()))
}

// View draws the whole screen, unless its turn is to come.
func (f *frame) View() tea.View {
	if f.pace == nil {
		return f.whole()
	}
	if !f.pace.waits || f.pace.atOnce(time.Now()) {
		f.pace.last = f.whole()
	}
	return f.pace.last
}
