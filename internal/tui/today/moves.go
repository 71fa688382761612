package today

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/run"
	"andamio/internal/service/moves"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// movesEvery is how often it is looked whether moves wait for somebody.
const movesEvery = 2 * time.Second

// waiting are the moves that wait for somebody.
type waiting struct {
	all []moves.Waiting
	err error
}

// lookAtMoves looks which moves wait and what was done, if that is some time ago; nil if it is not.
func (v *View) lookAtMoves() tea.Cmd {
	if v.app == nil || time.Since(v.looked) < movesEvery {
		return nil
	}
	v.looked = time.Now()
	return tea.Batch(v.lookAtDone(), func() tea.Msg {
		all, err := v.app.Waiting(context.Background(), time.Now())
		return waiting{all, err}
	})
}

// moveItems are the moves that wait for somebody: what stands still or costs twice until somebody says something.
func (v *View) moveItems(now time.Time) []item {
	var out []item
	open := view.Cmd(view.Goto{Digit: "6"})
	for _, w := range v.moves {
		name, below := fmt.Sprintf("move %d", w.Move.ID), w.Move.Name
		if len(w.Move.Waves) > 1 {
			name += fmt.Sprintf(", wave %d,", w.Wave+1)
			below = strings.Join(w.Move.Waves[w.Wave].Instances, ", ")
		}
		switch {
		case w.Failures > 0:
			out = append(out, item{rank: rankFailed, status: run.Failed, title: name + " has a step that failed", below: below, why: "rounds go on, and nothing is cut over until it is mended", acts: "look at it", do: open,
				reason: []string{"What failed holds what comes after it. Nothing has stopped where it was; the copy goes on."}})
		case len(w.Both) > 0:
			out = append(out, item{rank: rankFailed, status: run.Failed, title: name + " broke off with both sides on", below: strings.Join(w.Both, ", "), why: "both may be written to", acts: "go on, or go back, at once", do: open,
				reason: []string{"The site it was at did not answer, so that nothing could be switched off there. Going on has that be switched off as soon as the site answers; going back switches off what was begun from the copy."}})
		case w.State == moves.WaveBroken:
			out = append(out, item{rank: rankFailed, status: run.Stopped, title: name + " broke off", below: below, why: "one side serves, and nothing goes on by itself", acts: "go on, or go back", do: open,
				reason: []string{"Nobody works on it any more. It can go on where it was, or be gone back from; either leaves one side serving."}})
		case w.Ready:
			out = append(out, item{rank: rankMove, status: run.Held, title: name + " can be cut over", below: below, why: fmt.Sprintf("what is left is little; it would not serve for about %.0f s", w.Down), acts: "cut over", do: open,
				reason: []string{"Its rounds copy what changes again and again until somebody says to cut over."}})
		case w.State == moves.WaveMoved:
			out = append(out, item{rank: rankMove, status: run.Held, title: name + " is moved, not committed", below: below, why: "it serves there; what is kept where it was still costs", acts: "commit, or go back", do: open,
				reason: []string{"Until it is committed it can go back at any moment, and nothing else may change its deployment."}})
		case !w.Opens.IsZero():
			at := "is open"
			if w.Opens.After(now) {
				at = "opens in " + part.Clock(w.Opens.Sub(now))
			}
			out = append(out, item{rank: rankMove, status: run.Held, title: name + " waits for its window", below: below, why: "the window " + at, acts: "begin the wave", do: open,
				reason: []string{"A wave is begun by somebody; copying then waits for the window by itself."}})
		}
	}
	return out
}

// covered reports that a run belongs to a move that is spoken of anyway.
func (v *View) covered(id int64) bool {
	return slices.ContainsFunc(v.moves, func(w moves.Waiting) bool {
		last, _ := w.Move.Run(w.Wave)
		return last == id
	})
}
