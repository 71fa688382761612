package today

import (
	"context"
	"errors"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/hooks"
	"andamio/internal/service/promises"
	"andamio/internal/service/reactions"
	"andamio/internal/service/requests"
	"andamio/internal/service/runs"
	"andamio/internal/service/watch"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// mostDone bounds how much of what was done is shown.
const mostDone = 48

// lookWithin is how long a look into the workspace may take.
const lookWithin = 10 * time.Second

// done are the last entries of the trail of what was done, the newest first, what was proposed and asked for, what hooks told, and what is due.
type done struct {
	last       []app.Entry
	proposals  []runs.Proposal
	clock      app.Clock
	requests   []requests.View
	deliveries []hooks.Delivery
	promised   []promises.Kept
	addresses  []promise.AddressLease
	levels     []promises.LevelState
	alerts     []alarm.Alert
	reacting   []reactions.Status
	stories    map[int64][]string
	wholes     map[int64]watch.Overview
	err        error
}

// lookAtDone looks what was done last, what was proposed, and what is due.
func (v *View) lookAtDone() tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), lookWithin)
		defer cancel()
		last, err := v.app.LastOfTrail(ctx, mostDone)
		open, openErr := v.app.OpenProposals(ctx)
		clock, clockErr := v.app.Clock(ctx, time.Now(), mostDone)
		asked, askedErr := v.app.Requests(ctx)
		told, toldErr := v.app.Deliveries(ctx, mostDone)
		promised, promisedErr := v.app.Promises(ctx, time.Now())
		addresses, addressesErr := v.app.AddressLeases(ctx)
		levels, levelsErr := v.app.LevelStates(ctx, time.Now())
		alerts, alertsErr := v.app.Alerts(ctx)
		stories := v.storiesOf(ctx, alerts)
		reacting, reactingErr := v.app.Reacting(ctx)
		wholes, wholesErr := v.app.Wholes(ctx, usedOver, usedCells, time.Now())
		return done{last, open, clock, asked, told, promised, addresses, levels, alerts, reacting, stories, wholes, errors.Join(err, wholesErr, openErr, clockErr, askedErr, toldErr, promisedErr, addressesErr, levelsErr, alertsErr, reactingErr)}
	}
}

// done draws what was done last, and by whom, where there is room for two lines of it.
func (d *page) done() {
	room := d.r.Y + d.r.H - d.y - 3
	if len(d.v.done) == 0 || room < 2 {
		return
	}
	atWhy, _ := d.columns()
	d.head("what was done", "", "")
	all := together(withoutTries(d.v.done))
	for _, e := range all[:min(len(all), room, mostDone/4)] {
		ink := part.Dim
		switch {
		case e.Failed != "":
			ink = part.Coral
		case e.Way != app.BySchedule && e.Way != guard.Rule: // a person was there
			ink = part.Text
		}
		d.c.Cut(d.r.X+2, d.y, atWhy-d.r.X-4, part.In(part.Dim), fmt.Sprintf("%-9s %s", part.Age(e.At, d.now), e.Actor))
		d.c.Cut(atWhy, d.y, d.r.X+d.r.W-atWhy-1, part.In(ink), e.Words())
		d.y++
	}
	if d.y < d.r.Y+d.r.H {
		d.c.Cut(d.r.X+2, d.y, d.r.W-3, part.In(part.Dim), "andamio log tells all of it, and log --verify whether it is as it was written")
	}
}

// withoutTries leaves out of entries, the newest first, those that say what was to be done before the one that says that it failed.
func withoutTries(all []app.Entry) []app.Entry {
	var out []app.Entry
	for _, e := range all {
		if n := len(out); n > 0 && out[n-1].Failed != "" && e.Failed == "" && e.Act == out[n-1].Act && e.On == out[n-1].On && e.Actor == out[n-1].Actor && e.Seq == out[n-1].Seq-1 {
			continue
		}
		out = append(out, e)
	}
	return out
}

// together makes one entry of those, one after another, that are alike but for what was done to: a look at five sites is one thing
// that somebody did.
func together(all []app.Entry) []app.Entry {
	plain := func(e *app.Entry) bool { return e.Note == "" && e.Failed == "" && e.Run == 0 }
	var out []app.Entry
	for _, e := range all {
		if n := len(out); n > 0 && plain(&e) && plain(&out[n-1]) && e.Act == out[n-1].Act && e.Actor == out[n-1].Actor {
			out[n-1].On += ", " + e.On
			continue
		}
		out = append(out, e)
	}
	return out
}

// proposalItems are the plans that wait for somebody to confirm them.
func (v *View) proposalItems(now time.Time) []item {
	var out []item
	for _, p := range v.proposals {
		out = append(out, item{rank: rankProposal, status: run.Held, title: p.Purpose, below: fmt.Sprintf("proposal %d, by %s, %s", p.ID, p.By.Name, part.Age(p.Created, now)),
			why: "nothing is done before somebody confirms it; it holds until " + p.Until.Local().Format("Monday 15:04"), acts: "look at it, confirm it or withdraw it", do: v.openProposal(p.ID),
			reason: []string{"Somebody worked a plan out and kept it for another to confirm. What it was worked out from is still as it was."}})
	}
	return out
}

// openProposal shows what a proposal would do.
func (v *View) openProposal(id int64) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), lookWithin)
		defer cancel()
		p, o, err := v.app.Proposed(ctx, id)
		if err != nil {
			return view.Failed(err)
		}
		if p.Settles() {
			text := fmt.Sprintf("andamio confirm %d shows what it would settle, and settles it; andamio withdraw %d takes it back", id, id)
			return tea.BatchMsg{view.Cmd(view.Goto{Digit: "7"}), view.Cmd(view.Notice{Text: text})}
		}
		return tea.BatchMsg{view.Cmd(view.OpenOrder{Order: o, Proposal: p}), view.Cmd(view.Goto{Digit: "4"})}
	}
}
