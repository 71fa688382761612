// Package catalogue is what somebody sees who asks for services: what is offered, what the answers to its questions come to, and what happens
// when it is asked for.
package catalogue

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/offer"
	"andamio/internal/service/offers"
	"andamio/internal/service/requests"
	"andamio/internal/tui/view"
)

// View is the Ask view.
type View struct {
	ctx    context.Context
	app    *app.App
	offers []offers.Offer
	known  bool
	looked time.Time
	at     int
	// pane is the offers, or the questions of the selected one; ask is which question.
	pane pane
	ask  int
	more bool
	// answers are those given so far, by offer; instead is the request whose they would be, 0 for a request of its own.
	answers map[string]offer.Answers
	instead int64
	// saved are the answers that were given before, by offer, before which of them was taken last.
	saved  map[string][]offer.Answers
	before int
	// foreseen is what they come to, as it was worked out last; asked is for which of all the times that they changed, wrong why it is not known.
	foreseen *requests.Foreseen
	asked    int
	done     int
	wrong    string
	rows     map[int]int
	asks     map[int]int
	// preview says whose view of an offer that is not published yet this is; "" for one's own of what is.
	preview string
}

type pane int

const (
	atOffers pane = iota
	atQuestions
)

// New makes the view; what it asks for ends with the context.
func New(ctx context.Context, a *app.App) *View {
	return &View{ctx: ctx, app: a, answers: map[string]offer.Answers{}, saved: map[string][]offer.Answers{}}
}

// Preview makes the view of an offer that is not published yet as somebody would see it, who is the actor of the workspace. Nothing is asked for.
func Preview(ctx context.Context, a *app.App, o offers.Offer) (*View, tea.Cmd) {
	v := New(ctx, a)
	v.offers, v.known, v.pane, v.preview = []offers.Offer{o}, true, atQuestions, seen(a, &o)
	return v, v.work()
}

// seen says whether whoever is looked for would see an offer at all.
func seen(a *app.App, o *offers.Offer) string {
	who := a.Actor().Name
	theirs, err := a.IsFor(o)
	switch {
	case err != nil:
		return err.Error()
	case !theirs:
		return who + " would not see it: it is not for them"
	}
	return "as " + who + " would see it"
}

// Name, Digit and Badge describe the tab.
func (v *View) Name() string           { return "Ask" }
func (v *View) Digit() string          { return "1" }
func (v *View) Badge(time.Time) string { return "" }

// every is how often it is looked what is offered.
const every = 5 * time.Second

// mostWait is how long it is waited for what is offered, and for what answers come to: sites are asked for that.
const mostWait = time.Minute

type listed struct {
	all []offers.Offer
	err error
}

// went says that something was asked for, or answered otherwise.
type went struct{ text string }

type came struct {
	n        int
	foreseen *requests.Foreseen
	saved    []offer.Answers
	err      error
}

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Runs:
		return v.look()
	case listed:
		if msg.err != nil {
			return view.Cmd(view.Failed(msg.err))
		}
		first := !v.known
		v.offers, v.known = msg.all, true
		v.at = max(min(v.at, len(v.offers)-1), 0)
		if first {
			return v.work()
		}
	case view.AskLike:
		return v.like(msg.Asked)
	case went:
		v.instead = 0
		clear(v.saved) // what was answered now is answered as before the next time
		return tea.Batch(view.Cmd(view.Notice{Text: msg.text}), view.Cmd(view.Goto{Digit: "2"}))
	case came:
		if msg.n != v.asked {
			return nil // it was answered otherwise since
		}
		v.done, v.foreseen, v.wrong = msg.n, msg.foreseen, ""
		if o := v.selected(); o != nil && msg.saved != nil { // it may be offered no more by now
			v.saved[o.Name] = msg.saved
		}
		if msg.err != nil {
			v.foreseen, v.wrong = nil, msg.err.Error()
		}
	}
	return nil
}

func (v *View) look() tea.Cmd {
	if v.app == nil || v.preview != "" || time.Since(v.looked) < every {
		return nil
	}
	v.looked = time.Now()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostWait)
		defer cancel()
		all, err := v.app.Offers(ctx)
		return listed{slices.DeleteFunc(all, func(o offers.Offer) bool { return o.State != offers.Published }), err}
	}
}

func (v *View) selected() *offers.Offer {
	if v.at < 0 || v.at >= len(v.offers) {
		return nil
	}
	return &v.offers[v.at]
}

// given are the answers to the questions of the selected offer.
func (v *View) given() offer.Answers {
	o := v.selected()
	if o == nil {
		return nil
	}
	if v.answers[o.Name] == nil {
		v.answers[o.Name] = offer.Answers{}
	}
	return v.answers[o.Name]
}

// work works out what the answers come to.
func (v *View) work() tea.Cmd {
	o := v.selected()
	if v.app == nil || o == nil {
		return nil
	}
	v.asked++
	n, asked := v.asked, v.asking()
	_, known := v.saved[o.Name]
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostWait)
		defer cancel()
		f, err := v.app.Foresee(ctx, asked)
		if known || asked.Before != nil {
			return came{n, f, nil, err}
		}
		saved, savedErr := v.app.Saved(ctx, asked.Offer)
		return came{n, f, append([]offer.Answers{}, saved...), errors.Join(err, savedErr)} // none is known, too
	}
}

func (v *View) asking() requests.Asked {
	asked := requests.Asked{Offer: v.selected().Name, Answers: maps.Clone(v.given()), Instead: v.instead}
	if v.preview != "" {
		asked.Before = v.selected()
	}
	return asked
}

// like takes the answers of a request, to be asked for again or in their place.
func (v *View) like(a requests.Asked) tea.Cmd {
	i := slices.IndexFunc(v.offers, func(o offers.Offer) bool { return o.Name == a.Offer })
	if i < 0 {
		return view.Cmd(view.Notice{Text: a.Offer + " is not offered any more", Bad: true})
	}
	v.at, v.pane, v.ask, v.instead, v.foreseen, v.wrong = i, atQuestions, 0, a.Instead, nil, ""
	v.answers[a.Offer] = maps.Clone(a.Answers)
	v.more = slices.ContainsFunc(v.offers[i].Questions, func(q offer.Question) bool { _, is := a.Answers[q.Input]; return q.More && is })
	return v.work()
}

// asBefore takes the answers that were given to the offer before, one set after another.
func (v *View) asBefore() tea.Cmd {
	o := v.selected()
	all := v.saved[o.Name]
	if len(all) == 0 {
		return nil
	}
	v.before %= len(all)
	v.answers[o.Name] = maps.Clone(all[v.before])
	v.before++
	return v.work()
}

// leave gives up answering a request otherwise.
func (v *View) leave() tea.Cmd {
	v.instead = 0
	delete(v.answers, v.selected().Name)
	return v.work()
}

// questions are those that are shown: all of them once more is asked for.
func (v *View) questions() []*offer.Question {
	o := v.selected()
	if o == nil {
		return nil
	}
	var out []*offer.Question
	for _, q := range o.Asked() {
		if !q.More || v.more {
			out = append(out, &q)
		}
	}
	return out
}

// question is the selected one; nil if the offers are.
func (v *View) question() *offer.Question {
	all := v.questions()
	if v.pane != atQuestions || v.ask >= len(all) {
		return nil
	}
	return all[v.ask]
}

// value is how a question is answered now.
func (v *View) value(q *offer.Question) string {
	if a, is := v.given()[q.Input]; is {
		return a
	}
	return offer.Written(q.Default)
}

// choose takes the next answer of a question, or the one before; what only the template bounds is typed.
func (v *View) choose(dx int) tea.Cmd {
	q := v.question()
	if q == nil {
		return nil
	}
	all := q.Answers()
	if len(all) == 0 {
		return v.typeAnswer()
	}
	i := slices.Index(all, v.value(q))
	if i < 0 {
		i = 0
	} else {
		i = max(min(i+dx, len(all)-1), 0)
	}
	v.given()[q.Input] = all[i]
	return v.work()
}

// typeAnswer asks for an answer in words.
func (v *View) typeAnswer() tea.Cmd {
	q := v.question()
	if q == nil {
		return nil
	}
	return view.Cmd(view.Prompt{Act: view.Action{Name: q.Ask, Effect: q.Help, Ask: strings.TrimSuffix(q.Ask, "?"), Answer: func(text string) tea.Cmd {
		v.given()[q.Input] = text
		return v.work()
	}}})
}

func (v *View) move(dy int) tea.Cmd {
	if v.pane == atQuestions {
		v.ask = max(min(v.ask+dy, len(v.questions())-1), 0)
		return nil
	}
	was := v.at
	v.at = max(min(v.at+dy, len(v.offers)-1), 0)
	if v.at == was {
		return nil
	}
	v.ask, v.more, v.foreseen, v.wrong, v.instead, v.before = 0, false, nil, "", 0, 0
	return v.work()
}

// Click selects an offer or a question.
func (v *View) Click(x, y int) tea.Cmd {
	if i, is := v.asks[y]; is && x > listWidth {
		v.pane, v.ask = atQuestions, i
		return nil
	}
	if i, is := v.rows[y]; is && x <= listWidth {
		v.pane = atOffers
		return v.move(i - v.at)
	}
	return nil
}

// Wheel goes up and down.
func (v *View) Wheel(dy int) { v.move(dy) }

// Find selects the next offer that has a text in it.
func (v *View) Find(text string) bool {
	text = strings.ToLower(text)
	for k := range v.offers {
		i := (v.at + 1 + k) % len(v.offers)
		o := &v.offers[i]
		if strings.Contains(strings.ToLower(strings.Join([]string{o.Name, o.Title, o.Category, o.Note}, " ")), text) {
			v.pane = atOffers
			v.move(i - v.at)
			return true
		}
	}
	return false
}

// Keys are what keys mean.
func (v *View) Keys() []view.Key {
	if len(v.offers) == 0 {
		return nil
	}
	word, says := "offer", "goes up and down the offers"
	if v.pane == atQuestions {
		word, says = "question", "goes up and down the questions"
	}
	keys := []view.Key{view.On("up k down j"+view.Pages, "↑↓", word, says, func(name string) tea.Cmd {
		_, dy := view.Way(name)
		return v.move(dy)
	}), view.On("tab", "tab", "offers, answers", "goes from the offers to the questions and back", view.Then(func() { v.pane = 1 - v.pane }))}
	if q := v.question(); q != nil {
		if len(q.Answers()) > 0 {
			keys = append(keys, view.On(view.LeftRight, "←→", "answer", "takes the next answer, or the one before", func(name string) tea.Cmd {
				dx, _ := view.Way(name)
				return v.choose(dx)
			}))
		} else {
			keys = append(keys, view.On("e", "e", "write", "writes the answer", view.Run(v.typeAnswer)))
		}
	}
	if o := v.selected(); slices.ContainsFunc(o.Questions, func(q offer.Question) bool { return q.More }) {
		keys = append(keys, view.On("m", "m", "more", "shows the questions that need not be answered, and hides them", view.Then(func() { v.more = !v.more })))
	}
	if len(v.saved[v.selected().Name]) > 0 {
		keys = append(keys, view.On("b", "b", "as before", "takes the answers that you gave before, one set after another", view.Run(v.asBefore)))
	}
	return slices.Insert(keys, 1, v.endings()...) // a narrow screen has room for few
}

// endings are the keys that end answering.
func (v *View) endings() []view.Key {
	switch {
	case v.instead != 0:
		return []view.Key{view.On("enter", "enter", "change it", "gives the request these answers", view.Run(v.order)),
			view.On("esc", "esc", "leave it", "leaves the request as it is", view.Run(v.leave))}
	case v.preview != "":
		return []view.Key{view.On("esc", "esc", "back", "goes back to the template", view.Run(func() tea.Cmd { return view.Cmd(view.Leave{}) }))}
	}
	return []view.Key{view.On("enter", "enter", "ask for it", "asks for it, with these answers", view.Run(v.order))}
}

// order asks for what is selected.
func (v *View) order() tea.Cmd {
	if v.selected() == nil {
		return nil
	}
	if f := v.foreseen; f == nil || len(f.Quote.Wrong) > 0 || f.Quote.Cannot != "" || f.Over != "" {
		return view.Cmd(view.Notice{Text: "it cannot be asked for like that: " + v.trouble(), Bad: true})
	}
	return view.Cmd(view.Prompt{Act: v.ordering()})
}

// trouble says why it cannot be asked for.
func (v *View) trouble() string {
	f := v.foreseen
	switch {
	case f == nil && v.wrong != "":
		return v.wrong
	case f == nil:
		return "it is being worked out"
	case len(f.Quote.Wrong) > 0:
		return f.Quote.Wrong[0].Ask + " " + f.Quote.Wrong[0].Why
	case f.Quote.Cannot != "":
		return f.Quote.Cannot
	}
	return f.Over
}

func (v *View) ordering() view.Action {
	asked := v.asking()
	act := view.Action{Name: "ask for " + v.selected().Title, Effect: v.outlook(), Ask: "what is it for?", Answer: v.does(asked, "is asked for")}
	if asked.Instead != 0 {
		act.Name, act.Ask, act.Answer = "answer request "+number(asked.Instead)+" otherwise", "why?", v.does(asked, "has other answers")
	}
	return act
}

// does asks for something with words, says so, and goes to the requests.
func (v *View) does(asked requests.Asked, said string) func(string) tea.Cmd {
	return func(words string) tea.Cmd {
		asked.Why = words
		return func() tea.Msg {
			ctx, cancel := context.WithTimeout(v.ctx, mostWait)
			defer cancel()
			r, err := v.app.AskFor(ctx, asked)
			if err != nil {
				return view.Failed(err)
			}
			return went{r.Title + " " + said + ": request " + number(r.ID)}
		}
	}
}

// Actions are what can be done.
func (v *View) Actions() []view.Action {
	if v.selected() == nil || v.preview != "" || v.foreseen == nil || v.trouble() != "" {
		return nil
	}
	return []view.Action{v.ordering()}
}

// Export writes nothing.
func (v *View) Export() tea.Cmd { return nil }

// Why explains what the answers come to.
func (v *View) Why() view.Note {
	o := v.selected()
	if o == nil {
		return view.Note{Title: "why", Lines: []view.Line{view.Say("Nothing is offered to you. Whoever keeps the workspace makes offers.")}}
	}
	lines := []view.Line{view.Say(o.Note)}
	if f := v.foreseen; f != nil && f.Quote.Draft() != nil {
		lines = append(lines, view.Say(""), view.Say(f.Decision.Say))
		var sites []string
		for _, s := range f.Quote.Sites {
			sites = append(sites, atSite(&s, f.Quote))
		}
		lines = append(lines, view.Listed("all of it at one site", sites)...)
	} else if v.trouble() != "" {
		lines = append(lines, view.Say(""), view.Say(v.trouble()))
	}
	return view.Note{Title: o.Title, Lines: lines}
}
