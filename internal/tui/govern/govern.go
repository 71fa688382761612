// Package govern is the Govern view: who asks for what, how much is left of whose quota, and what a yes would do.
package govern

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/run"
	"andamio/internal/service/quotas"
	"andamio/internal/service/requests"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// View is the Govern view.
type View struct {
	ctx    context.Context
	app    *app.App
	mine   bool
	uses   []quotas.Use
	all    []requests.View
	known  bool
	looked time.Time
	// effect is what a yes to the selected request would do, as it was worked out last; thread is what was said of it.
	effect *requests.Effect
	thread []requests.Event
	have   *requests.Having
	of     int64
	elev   part.Elevation
	drawn  *run.State
	at     int
	// seen says that the view was on screen with something in it.
	seen bool
	rows map[int]int
	now  time.Time
	// pane is the requests, or the account.
	pane pane
	book book
}

type pane int

const (
	atRequests pane = iota
	atAccount
)

// New makes the view; what it asks for ends with the context.
func New(ctx context.Context, a *app.App) *View { return &View{ctx: ctx, app: a} }

// Mine makes the view for whoever asks for services: what they asked for, and their quotas.
func Mine(ctx context.Context, a *app.App) *View {
	return &View{ctx: ctx, app: a, mine: true, book: book{by: slices.Index(dimensions, "deployment")}}
}

// Name, Digit and Badge describe the tab.
func (v *View) Name() string {
	if v.mine {
		return "Requests"
	}
	return "Govern"
}
func (v *View) Digit() string {
	if v.mine {
		return "2"
	}
	return "8"
}

// Badge counts the requests that wait for whoever looks.
func (v *View) Badge(time.Time) string {
	n := 0
	for i := range v.all {
		if v.all[i].Mine {
			n++
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// every is how often it is looked.
const every = 2 * time.Second

// mostWait is how long it is waited for what is asked for, and for what a yes would do: sites are asked for that.
const mostWait = time.Minute

// looked is what is asked for, and what is taken of quotas.
type looked struct {
	uses []quotas.Use
	all  []requests.View
	err  error
}

// worked is what a yes to a request would do, and what was said of it.
type worked struct {
	of     int64
	effect *requests.Effect
	thread []requests.Event
	have   *requests.Having
	err    error
}

// acted is heard when something was done to a request: all is looked at anew.
type acted struct{}

// Update hears messages.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case view.Runs:
		return tea.Batch(v.look(false), v.account(false))
	case accounted:
		v.book.take(msg)
	case acted:
		v.of = 0
		return v.look(true)
	case looked:
		if msg.err != nil {
			return view.Cmd(view.Failed(msg.err))
		}
		v.take(msg)
		return v.workOut()
	case worked:
		if msg.err != nil {
			return view.Cmd(view.Failed(msg.err))
		}
		if r := v.selected(); r != nil && r.ID == msg.of {
			v.of, v.effect, v.thread, v.have = msg.of, msg.effect, msg.thread, msg.have
		}
	}
	return nil
}

// take keeps what was looked at; what is selected stays so, once it was on screen: until then the first is.
func (v *View) take(msg looked) {
	var id int64
	if r := v.selected(); r != nil && v.seen {
		id = r.ID
	}
	v.uses, v.all, v.known = msg.uses, ranked(msg.all), true
	if i := slices.IndexFunc(v.all, func(r requests.View) bool { return r.ID == id }); i >= 0 {
		v.at = i
	}
	v.at = max(min(v.at, len(v.all)-1), 0)
	if !v.seen {
		v.at = 0
	}
}

// ranked are requests, those first that wait for whoever looks, then those that wait for others, then what is built, and what is over.
func ranked(all []requests.View) []requests.View {
	rank := func(r *requests.View) int {
		switch {
		case r.Mine:
			return 0
		case r.Waits != "":
			return 1
		case r.Stage == requests.StageBuilding || r.Stage == requests.StageApproved || r.Stage == requests.StageFailed:
			return 2
		case r.Stage == requests.StageServing:
			return 3
		}
		return 4
	}
	out := slices.Clone(all)
	slices.SortStableFunc(out, func(a, b requests.View) int {
		if d := rank(&a) - rank(&b); d != 0 {
			return d
		}
		if rank(&a) < 2 { // who waits longest comes first
			return a.Created.Compare(b.Created)
		}
		return b.Created.Compare(a.Created)
	})
	return out
}

// look asks for everything, unless that was done a moment ago.
func (v *View) look(now bool) tea.Cmd {
	if v.app == nil || !now && time.Since(v.looked) < every {
		return nil
	}
	v.looked = time.Now()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostWait)
		defer cancel()
		uses, err := v.app.Uses(ctx, time.Now())
		if err != nil {
			return looked{err: err}
		}
		all, err := v.app.Requests(ctx)
		return looked{uses, all, err}
	}
}

// workOut works out what a yes to the selected request would do.
func (v *View) workOut() tea.Cmd {
	r := v.selected()
	if v.app == nil || r == nil || v.of == r.ID && r.Waits == "" && r.Run == 0 {
		return nil
	}
	x := *r
	return func() tea.Msg {
		out := worked{of: x.ID}
		ctx, cancel := context.WithTimeout(v.ctx, mostWait)
		defer cancel()
		if out.thread, out.err = v.app.Thread(ctx, x.ID); out.err == nil && x.Waits != "" {
			out.effect, out.err = v.app.EffectOf(ctx, x.Request)
		}
		if out.err == nil && x.Run != 0 {
			out.have, out.err = v.app.Have(ctx, x.ID, time.Now())
		}
		return out
	}
}

func (v *View) selected() *requests.View {
	if v.at < 0 || v.at >= len(v.all) {
		return nil
	}
	return &v.all[v.at]
}

// move goes up and down the requests.
func (v *View) move(dy int) tea.Cmd {
	v.at = max(min(v.at+dy, len(v.all)-1), 0)
	if r := v.selected(); r != nil && r.ID != v.of {
		v.effect, v.thread, v.have = nil, nil, nil
	}
	return v.workOut()
}

// Click selects.
func (v *View) Click(_, y int) tea.Cmd {
	if i, is := v.rows[y]; is {
		return v.move(i - v.at)
	}
	return nil
}

// Wheel goes up and down.
func (v *View) Wheel(dy int) { v.at = max(min(v.at+dy, len(v.all)-1), 0) }

// Find selects the first request after the selected one that has a text in it.
func (v *View) Find(text string) bool {
	text = strings.ToLower(text)
	for k := range v.all {
		i := (v.at + 1 + k) % len(v.all)
		r := &v.all[i]
		if strings.Contains(strings.ToLower(strings.Join([]string{fmt.Sprint(r.ID), r.Title, r.Name, r.Person, r.Owner.Team, r.Stage}, " ")), text) {
			v.at = i
			return true
		}
	}
	return false
}
