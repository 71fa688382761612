package operate

import (
	"context"
	"fmt"
	"io"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/vt"

	"andamio/internal/service/shells"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// The keys that a shell does not get: one leaves it, one goes to the next, and one ends a serial console.
const (
	leave = "ctrl+]"
	next  = "ctrl+o"
	end   = "ctrl+^" // of a serial console, which nothing else ends
)

// shells are the open shells, side by side as tabs.
type shellPanes struct {
	open  []*shell
	at    int
	focus bool
	w, h  int
}

// shell is one shell with the terminal that it writes to.
type shell struct {
	host shells.Host
	conn *shells.Shell
	term *vt.SafeEmulator
	// wake is written to when there is something new to show, and closed in the end.
	wake chan struct{}
}

type (
	shellOpened struct {
		s   *shell
		err error
	}
	shellOutput struct{ s *shell }
	shellEnded  struct{ s *shell }
)

// openShell opens a shell beside those that are open, and gives it the keys.
func (v *View) openShell(want view.OpenShell) tea.Cmd {
	h := want.Host
	w, height := max(v.shells.w, 40), max(v.shells.h, 8)
	ctx, a := v.ctx, v.app
	return func() tea.Msg {
		conn, err := (*shells.Shell)(nil), error(nil)
		if want.Serial {
			conn, err = a.OpenConsole(ctx, h)
		} else {
			conn, err = a.OpenShell(ctx, h, "xterm-256color", w, height)
		}
		if err != nil {
			return shellOpened{err: err}
		}
		s := &shell{host: h, conn: conn, term: vt.NewSafeEmulator(w, height), wake: make(chan struct{}, 1)}
		go s.read(ctx)
		go func() { _, _ = io.Copy(conn.In, s.term) }() // what the terminal answers and what is typed
		return shellOpened{s: s}
	}
}

// read takes what the shell prints into the terminal.
func (s *shell) read(ctx context.Context) {
	buf := make([]byte, 8<<10)
	for {
		n, err := s.conn.Out.Read(buf)
		if n > 0 {
			_, _ = s.term.Write(buf[:n])
			select {
			case s.wake <- struct{}{}:
			default:
			}
		}
		if err != nil || ctx.Err() != nil {
			close(s.wake)
			return
		}
	}
}

// listen waits until there is something new to show.
func (s *shell) listen() tea.Cmd {
	return func() tea.Msg {
		if _, more := <-s.wake; !more {
			return shellEnded{s}
		}
		return shellOutput{s}
	}
}

func (p *shellPanes) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case shellOpened:
		if msg.err != nil {
			return view.Cmd(view.Failed(msg.err))
		}
		p.open = append(p.open, msg.s)
		p.at, p.focus = len(p.open)-1, true
		text := fmt.Sprintf("a shell on %s; %s leaves it, %s goes to the next, exit ends it", msg.s.host.ID, leave, next)
		if msg.s.conn.Serial() {
			text = fmt.Sprintf("the serial console of %s; %s leaves it, %s goes to the next, %s ends it", msg.s.host.ID, leave, next, end)
		}
		return tea.Batch(msg.s.listen(), view.Cmd(view.Notice{Text: text}))
	case shellOutput:
		return msg.s.listen()
	case shellEnded:
		p.drop(msg.s)
	}
	return nil
}

func (p *shellPanes) drop(s *shell) {
	_ = s.conn.Close()
	for i, x := range p.open {
		if x == s {
			p.open = append(p.open[:i], p.open[i+1:]...)
			break
		}
	}
	p.at = min(p.at, max(len(p.open)-1, 0))
	p.focus = p.focus && len(p.open) > 0
}

// give gives what is typed or pasted to the shell that has the focus.
func (p *shellPanes) give(msg tea.Msg) tea.Cmd {
	s := p.open[p.at]
	switch msg := msg.(type) {
	case tea.PasteMsg:
		s.term.Paste(msg.Content)
	case tea.KeyPressMsg:
		switch {
		case msg.String() == leave:
			p.focus = false
		case msg.String() == next:
			p.at = (p.at + 1) % len(p.open)
		case msg.String() == end && s.conn.Serial():
			p.drop(s)
		case msg.Text != "":
			s.term.SendText(msg.Text)
		default:
			s.term.SendKey(vt.KeyPressEvent(msg.Key()))
		}
	}
	return nil
}

// title is what a tab says.
func (s *shell) title() string {
	if s.conn.Serial() {
		return s.host.ID + " at " + s.host.Site + ", serial console"
	}
	return s.host.ID + " at " + s.host.Site
}

// draw draws the tabs and the terminal of the one in front.
func (p *shellPanes) draw(c *part.Canvas, r part.Rect) {
	c.Across(r.X, r.Y, r.W, part.In(part.Steel), c.Look.Glyphs.Thin)
	x := r.X + 2
	for i, s := range p.open {
		style := part.In(part.Dim)
		if i == p.at {
			style = part.In(part.Steel).Strong()
			if p.focus {
				style = part.In(part.Ochre).Strong()
			}
		}
		x = c.Cut(x, r.Y, 40, style, " "+s.title()+" ") + 2
	}
	p.resize(r.W-2, r.H-1)
	s := p.open[p.at]
	cursor := s.term.CursorPosition()
	for y := range min(p.h, s.term.Height()) {
		for col := range min(p.w, s.term.Width()) {
			style := part.In(part.Text)
			content := " "
			if cell := s.term.CellAt(col, y); cell != nil && cell.Content != "" {
				content = cell.Content
			}
			if p.focus && cursor.X == col && cursor.Y == y {
				style = style.On(part.OnSelected)
			}
			c.Text(r.X+1+col, r.Y+1+y, style, content)
		}
	}
}

// resize tells all shells the size of their terminals when that has changed.
func (p *shellPanes) resize(w, h int) {
	if p.w == w && p.h == h || w < 4 || h < 2 {
		return
	}
	p.w, p.h = w, h
	for _, s := range p.open {
		s.term.Resize(w, h)
		_ = s.conn.Resize(w, h)
	}
}
