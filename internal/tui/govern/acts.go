package govern

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/printable"
	"andamio/internal/service/deployments"
	"andamio/internal/service/requests"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// Keys are what keys mean.
func (v *View) Keys() []view.Key {
	other := map[pane]string{atRequests: "account", atAccount: "requests"}[v.pane]
	tab := view.On("tab", "tab", other, "goes from the requests to the account and back", view.Then(func() { v.pane = 1 - v.pane }))
	if v.pane == atAccount {
		return append(v.accountKeys(), tab)
	}
	keys := append(v.requestKeys(), tab)
	if !v.mine {
		keys = append(keys, view.On("r", "r", "rules", "lists the rules that decide requests, with what each decided lately", view.Run(v.rules)))
	}
	return keys
}

// rules shows the rules that decide requests.
func (v *View) rules() tea.Cmd {
	if v.app == nil {
		return nil
	}
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostWait)
		defer cancel()
		all, err := v.app.Rulings(ctx, time.Now())
		if err != nil {
			return view.Failed(err)
		}
		return view.Tell{Note: ruled(all)}
	}
}

// ruled are rules as a note.
func ruled(all []requests.RuleUse) view.Note {
	n := view.Note{Title: "the rules that decide requests, the first that fits"}
	if len(all) == 0 {
		n.Lines = []view.Line{view.Say("There are none: every request waits for somebody who may approve. andamio decide rules set FILE keeps some (docs/requests.md).")}
	}
	for i := range all {
		r := &all[i]
		n.Lines = append(n.Lines, view.Head(r.Name+"  "+r.Does()), view.Say("  "+r.Say), view.Say("  "+cmp.Or(r.When, "every request that is left")), view.Say("  "+r.Decided()), view.Say(""))
	}
	return n
}

// requestKeys are what keys mean while the requests are looked at.
func (v *View) requestKeys() []view.Key {
	keys := []view.Key{view.On(view.UpDown+view.Pages, "↑↓", "request", "goes up and down the requests", func(name string) tea.Cmd {
		_, dy := view.Way(name)
		return v.move(dy)
	})}
	r := v.selected()
	if r == nil {
		return keys
	}
	if r.Mine {
		keys = append(keys, view.On("y", "y", "approve", "approves the selected request: what it would build is built", view.Run(v.approve)),
			view.On("n", "n", "refuse", "refuses the selected request, with words for whoever asked", view.Run(v.refuse)))
	}
	if r.Run != 0 && !v.mine {
		keys = append(keys, view.On("enter", "enter", "its run", "shows the run that builds it", view.Run(v.open)))
	}
	return append(keys, view.On("s", "s", "say", "adds words to the thread of the selected request", view.Run(v.say)))
}

func (v *View) open() tea.Cmd {
	return tea.Batch(view.Cmd(view.OpenRun{ID: v.selected().Run}), view.Cmd(view.Goto{Digit: "4"}))
}

// Actions are what can be done to the selected request.
func (v *View) Actions() []view.Action {
	r := v.selected()
	if r == nil {
		return nil
	}
	var out []view.Action
	if r.Mine {
		out = append(out, v.approval(r), v.refusal(r))
	}
	if r.State == requests.Priced {
		out = append(out, view.Action{Name: "accept the price", Effect: "it is built at the price of now", Do: v.does(func(ctx context.Context) error {
			_, err := v.app.AcceptPrice(ctx, r.ID)
			return err
		}, "accepted")})
	}
	if v.mine && v.app != nil && r.Person == v.app.Actor().Name {
		out = append(out, v.again(r)...)
	}
	if r.State == requests.Waiting || r.State == requests.Priced {
		out = append(out, view.Action{Name: "withdraw", Effect: "what is held for it is given back", Do: v.does(func(ctx context.Context) error {
			_, err := v.app.TakeBack(ctx, r.ID, "")
			return err
		}, "withdrawn")})
	}
	if v.have != nil && v.of == r.ID {
		if v.have.Extensions > 0 {
			out = append(out, view.Action{Name: "extend", Effect: fmt.Sprintf("it ends later than %s, %s", v.have.Ends.Local().Format("2 Jan 15:04"), printable.Count(v.have.Extensions, "more time")),
				Do: v.does(func(ctx context.Context) error {
					_, err := v.app.ExtendLease(ctx, r.Deployment, time.Now())
					return err
				}, "extended")})
		}
		for _, t := range v.have.Turns {
			out = append(out, view.Action{Name: string(t), Effect: turns[t], Do: func() tea.Cmd { return v.turn(r, t) }})
		}
	}
	return append(out, v.saying(r))
}

// again asks once more for what a request asked for, or answers it otherwise while nobody has decided it.
func (v *View) again(r *requests.View) []view.Action {
	id := r.ID
	out := []view.Action{{Name: "ask for it again", Effect: "with the same answers, which can be changed before", Do: func() tea.Cmd {
		return v.like(func(ctx context.Context) (requests.Asked, error) { return v.app.Again(ctx, id) })
	}}}
	if r.State == requests.Waiting || r.State == requests.Priced {
		asked := requests.Asked{Offer: r.Offer, Answers: r.Answers, Instead: id}
		out = append(out, view.Action{Name: "answer it otherwise", Effect: "it keeps its place and its name, and is decided anew", Do: func() tea.Cmd {
			return v.like(func(context.Context) (requests.Asked, error) { return asked, nil })
		}})
	}
	return out
}

// like has the Ask view ask for something.
func (v *View) like(what func(context.Context) (requests.Asked, error)) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostWait)
		defer cancel()
		a, err := what(ctx)
		if err != nil {
			return view.Failed(err)
		}
		return tea.BatchMsg{view.Cmd(view.Goto{Digit: "1"}), view.Cmd(view.AskLike{Asked: a})}
	}
}

// turns say what is done to what somebody has.
var turns = map[requests.Turn]string{requests.Stop: "switches all of it off; shows first what that does", requests.Begin: "switches it on again; shows first what that does",
	requests.GiveBack: "takes it away, with what is on it; shows first what that does"}

// turn works out what a turn does, and asks before it is done: by its name, where what is on it goes.
func (v *View) turn(r *requests.View, t requests.Turn) tea.Cmd {
	id, name := r.ID, r.Name
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostWait)
		defer cancel()
		o, err := v.app.Turning(ctx, id, t)
		if err != nil {
			return view.Failed(err)
		}
		act := view.Action{Name: string(t) + " " + name, Effect: turned(o), Do: v.does(func(ctx context.Context) error {
			_, err := v.app.TurnIt(ctx, id, t)
			return err
		}, "under way")}
		if t == requests.GiveBack {
			act.Type = name
		}
		return view.Confirm{Act: act}
	}
}

// turned says in a line what a plan does.
func turned(o deployments.Order) string {
	text := fmt.Sprintf("%s, about %s", printable.Count(len(o.Plan.Steps), "step"), part.Clock(time.Duration(o.Plan.Seconds*float64(time.Second))))
	for _, l := range o.Plan.Losses() {
		return text + "; " + l.String()
	}
	return text
}

func (v *View) approve() tea.Cmd { return view.Cmd(view.Confirm{Act: v.approval(v.selected())}) }
func (v *View) refuse() tea.Cmd  { return view.Cmd(view.Prompt{Act: v.refusal(v.selected())}) }
func (v *View) say() tea.Cmd     { return view.Cmd(view.Prompt{Act: v.saying(v.selected())}) }

// approval approves a request, with what that does.
func (v *View) approval(r *requests.View) view.Action {
	effect := "it is built at once"
	if need := r.Decision.Need - len(r.Yes); need > 1 {
		effect = fmt.Sprintf("%d of %d have said yes then", len(r.Yes)+1, r.Decision.Need)
	} else if v.effect != nil && v.of == r.ID && v.effect.Quote.Cannot == "" {
		effect = fmt.Sprintf("it is built at once: %s, %.3f %s/h", v.effect.Quote.Size.Says(), v.effect.Quote.PerHour, v.effect.Quote.Currency)
	}
	return view.Action{Name: fmt.Sprintf("approve request %d, %s", r.ID, r.Name), Effect: effect, Do: v.does(func(ctx context.Context) error {
		_, err := v.app.Answer(ctx, r.ID, true, "")
		return err
	}, "approved")}
}

// refusal asks for words, and refuses a request with them.
func (v *View) refusal(r *requests.View) view.Action {
	return view.Action{Name: fmt.Sprintf("refuse request %d, %s", r.ID, r.Name), Effect: "what is held for it is given back, and whoever asked reads why", Ask: "why", Wrong: noWords,
		Answer: func(text string) tea.Cmd {
			return v.does(func(ctx context.Context) error {
				_, err := v.app.Answer(ctx, r.ID, false, text)
				return err
			}, "refused")()
		}}
}

func (v *View) saying(r *requests.View) view.Action {
	return view.Action{Name: fmt.Sprintf("say something of request %d", r.ID), Effect: "it is in its thread", Ask: "words", Wrong: noWords, Answer: func(text string) tea.Cmd {
		return v.does(func(ctx context.Context) error { return v.app.SayOf(ctx, r.ID, text) }, "said")()
	}}
}

func noWords(text string) string {
	if strings.TrimSpace(text) == "" {
		return "say something"
	}
	return ""
}

// does does something, says so, and looks anew.
func (v *View) does(what func(context.Context) error, said string) func() tea.Cmd {
	return func() tea.Cmd {
		return func() tea.Msg {
			ctx, cancel := context.WithTimeout(v.ctx, mostWait)
			defer cancel()
			if err := what(ctx); err != nil {
				return view.Failed(err)
			}
			return tea.BatchMsg{view.Cmd(view.Notice{Text: said}), view.Cmd(acted{})}
		}
	}
}

// Why explains the selected request.
func (v *View) Why() view.Note {
	r := v.selected()
	if r == nil {
		return view.Note{Title: "why", Lines: []view.Line{view.Say("Nothing was asked for. Offers are published with andamio offer publish, and asked for with andamio request ask.")}}
	}
	lines := []view.Line{view.Say(r.Decision.Say)}
	if r.Decision.Rule != "" {
		lines = append(lines, view.Say("That says the rule "+r.Decision.Rule+"."))
	}
	if r.Waits != "" {
		lines = append(lines, view.Say("It waits for "+r.Waits+"."))
	}
	var stages []string
	for _, s := range r.Stages {
		by := s.By.Name
		if s.Rule != "" {
			by = "rule " + s.Rule
		}
		stages = append(stages, strings.TrimSpace(fmt.Sprintf("%s  %s  %s  %s", s.At.Local().Format("2 Jan 15:04:05"), s.Stage, by, s.Text)))
	}
	return view.Note{Title: fmt.Sprintf("request %d, %s", r.ID, r.Title), Lines: append(lines, view.Listed("so far", stages)...)}
}
