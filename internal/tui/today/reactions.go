package today

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/run"
	"andamio/internal/service/reactions"
	"andamio/internal/service/reconcile"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// reactionItems are reactions that call a person.
func (v *View) reactionItems(now time.Time) []item {
	var out []item
	for i := range v.reacting {
		s := &v.reacting[i]
		if s.State.Called.IsZero() {
			continue
		}
		reason := []string{s.State.CalledFor + ".", "It " + s.Words + ".", "Nothing is done by it until all is well again, or somebody lets it act again."}
		for k := range s.State.Acts {
			a := &s.State.Acts[k]
			reason = append(reason, fmt.Sprintf("%s %s: %s", a.At.Local().Format("15:04"), a.Words(), a.Why))
		}
		out = append(out, item{rank: rankFailed, status: run.Failed, title: s.Name + ": " + s.Reaction + " needs a person", below: "called " + part.Age(s.State.Called, now), why: s.State.CalledFor,
			acts: "look at it; a: let it act again", do: view.Cmd(view.Show{Thing: reconcile.Thing{Kind: reconcile.ADeployment, ID: fmt.Sprint(s.Deployment), Deployment: s.Deployment}}),
			reason: reason, reaction: s})
	}
	return out
}

// reactionActs are what can be done about the reaction of an item.
func (v *View) reactionActs(s *reactions.Status) []view.Action {
	if s == nil {
		return nil
	}
	return []view.Action{{Name: "let " + s.Reaction + " act again", Effect: "as if it had done nothing to " + s.Name + " within the last day", Do: func() tea.Cmd {
		return func() tea.Msg {
			ctx, cancel := context.WithTimeout(context.Background(), lookWithin)
			defer cancel()
			if err := v.app.ResumeReaction(ctx, s.Reaction, s.Deployment); err != nil {
				return view.Failed(err)
			}
			return view.Notice{Text: s.Reaction + " acts on " + s.Name + " again"}
		}
	}}}
}
