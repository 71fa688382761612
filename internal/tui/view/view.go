// Package view is what the frame of the screens and the views know of each other.
package view

import (
	"context"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/health"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/offers"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/requests"
	"andamio/internal/service/runs"
	"andamio/internal/service/shells"
	"andamio/internal/service/templates"
	"andamio/internal/tui/part"
)

// View is one of the screens. The frame draws its tab, gives it messages and keys, and draws it.
type View interface {
	// Name is the tab's word, Digit the key that switches to it, Badge a short count beside it or "".
	Name() string
	Digit() string
	Badge(now time.Time) string
	// Update hears every message, whether the view is shown or not.
	Update(msg tea.Msg) tea.Cmd
	// Click and Wheel act on the mouse at a cell of the canvas.
	Click(x, y int) tea.Cmd
	Wheel(dy int)
	// Find selects what matches a text; false if nothing does.
	Find(text string) bool
	Draw(c *part.Canvas, r part.Rect, now time.Time)
	// Keys are what keys mean here and now, the most important first. What they leave is the frame's.
	Keys() []Key
	// Why explains what is selected.
	Why() Note
	// Actions are what can be done to what is selected.
	Actions() []Action
	// Export writes the view's pictures; nil if it has none.
	Export() tea.Cmd
}

// Note is a titled text shown over the view.
type Note struct {
	Title string
	Lines []Line
}

// Line is a line of a note; Strong lines are headings.
type Line struct {
	Text   string
	Strong bool
	// Hang is how far the second row and those after it are indented; 0 is as far as the first.
	Hang int
}

// Wrap breaks the line into rows of at most w columns.
func (l Line) Wrap(w int) []string {
	hang := l.Hang
	if hang == 0 {
		hang = len(l.Text) - len(strings.TrimLeft(l.Text, " "))
	}
	rows := part.Wrap(l.Text, w)
	if len(rows) < 2 || hang >= w/2 {
		return rows
	}
	indent := strings.Repeat(" ", hang)
	rest := strings.TrimSpace(strings.TrimPrefix(l.Text, rows[0]))
	out := rows[:1]
	for _, row := range part.Wrap(rest, w-hang) {
		out = append(out, indent+row)
	}
	return out
}

// Head and Say make lines.
func Head(text string) Line { return Line{Text: text, Strong: true} }
func Say(text string) Line  { return Line{Text: text} }

// Listed are lines under a heading, with an empty one before; nothing if there are none.
func Listed(head string, texts []string) []Line {
	if len(texts) == 0 {
		return nil
	}
	out := []Line{Say(""), Head(head)}
	for _, t := range texts {
		out = append(out, Say("  "+t))
	}
	return out
}

// Action is something that can be done. Effect says what it will do; Type is what must be typed to confirm it, "" where
// nothing is lost by it.
type Action struct {
	Name, Effect, Type string
	Do                 func() tea.Cmd
	// Ask, if not empty, asks for a text before Answer is done with it instead of Do; Wrong says what is the matter with
	// what is typed so far, "" if nothing is.
	Ask    string
	Answer func(text string) tea.Cmd
	Wrong  func(text string) string
	// Hide shows nothing of what is typed.
	Hide bool
	// Here acts write files where the screens run; whoever is elsewhere is not offered them.
	Here bool
}

// Goto asks the frame to show the view with that digit.
type Goto struct{ Digit string }

// Show asks the frame to show the view that a thing belongs to, and that view to select it.
type Show struct{ Thing reconcile.Thing }

// Notice asks the frame to show a line to the user.
type Notice struct {
	Text string
	Bad  bool
	// Late says that it is of an answer that was waited for in vain, and of nothing else.
	Late bool
}

// Tell asks the frame to show a note.
type Tell struct{ Note Note }

// Confirm asks the frame to ask before an act.
type Confirm struct{ Act Action }

// Prompt asks the frame to ask for a text for an act.
type Prompt struct{ Act Action }

// Compared says where declared, recorded and observed disagree now.
type Compared struct{ Inventory *reconcile.Inventory }

// Health says how all deployments are, as they were read last.
type Health struct{ All []health.Deployment }

// Runs are the runs of the workspace, the newest first.
type Runs struct{ Runs []app.Run }

// OpenRun asks the Deploy view to show a run, OpenDraft to show a plan that has not begun.
type OpenRun struct{ ID int64 }
type OpenDraft struct{ Draft *templates.Draft }

// OpenOrder asks the Deploy view to show what an order would do, before it is run. Proposal is the one that it was kept in, nil for an
// order that was worked out now.
type OpenOrder struct {
	Order    deployments.Order
	Proposal *runs.Proposal
}

// PlanMove asks the Move view to plan a move of instances, by their names.
type PlanMove struct{ Instances []string }

// FailOver asks the Move view to show what failing over would do, before it is begun.
type FailOver struct{ Draft *moves.Draft }

// Preview asks the frame to show an offer that is not published yet as somebody would see it.
type Preview struct {
	Who   string
	Offer offers.Offer
}

// Leave asks the frame to take away what it shows in the place of a view.
type Leave struct{}

// AskLike asks the Ask view for an offer with answers: for another request, or in the place of those of one that waits.
type AskLike struct{ Asked requests.Asked }

// OpenShell asks the Operate view for a shell on an instance of a deployment.
type OpenShell struct {
	Host shells.Host
	// Serial asks for the serial console instead.
	Serial bool
}

// Typist is a view that has a text field or a shell in it. While it says that it is typed into, it is given keys and pastes
// as they come; false leaves a key to the frame.
type Typist interface {
	Typing() bool
	Type(msg tea.Msg) (tea.Cmd, bool)
}

// Drafted says what the template is worked out to now.
type Drafted struct{ Draft *templates.Draft }

// Accepted says that choices of a placement are to go into the plan.
type Accepted struct{ Choices templates.Choices }

// SitesChanged says that a site was connected or removed.
type SitesChanged struct{}

// Cmd makes a command of a message.
func Cmd(msg tea.Msg) tea.Cmd { return func() tea.Msg { return msg } }

// Failed says what kept something from being done: each of several causes once, and a wait that was given up in words.
func Failed(err error) Notice {
	var said []string
	for _, cause := range causes(err) {
		text := strings.ReplaceAll(cause.Error(), context.DeadlineExceeded.Error(), tooLong)
		if !slices.Contains(said, text) {
			said = append(said, text)
		}
	}
	return Notice{Text: strings.Join(said, "; "), Bad: true, Late: slices.Equal(said, []string{tooLong})}
}

// tooLong is said of what had its time: what is on the screen is from before.
const tooLong = "no answer in time (disk or network busy?): what is shown is from before"

// causes are the errors that were joined, or the error.
func causes(err error) []error {
	joined, many := err.(interface{ Unwrap() []error })
	if !many || strings.Count(err.Error(), "\n") == 0 {
		return []error{err}
	}
	return joined.Unwrap()
}

// Written says which files a picture was written to, or what kept it from being written.
func Written(files []string, err error) Notice {
	if err != nil {
		return Failed(err)
	}
	return Notice{Text: "written: " + strings.Join(files, ", ")}
}
