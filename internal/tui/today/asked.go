package today

import (
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/run"
	"andamio/internal/service/hooks"
	"andamio/internal/service/requests"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// requestItems are the requests that wait for whoever looks, those that wait longer than usual first.
func (v *View) requestItems(now time.Time) []item {
	var out []item
	for _, late := range []bool{true, false} {
		for i := range v.requests {
			r := &v.requests[i]
			if !r.Mine || late != (!r.Next.IsZero() && r.Next.Before(now)) {
				continue
			}
			why := r.Decision.Say
			if late {
				why = "later than usual: " + why
			}
			out = append(out, item{rank: rankRequest, status: run.Held, title: fmt.Sprintf("%s asks for %s", r.Person, r.Title), below: fmt.Sprintf("request %d, %s, waits %s", r.ID, r.Name, part.Clock(now.Sub(asked(r)))),
				why: why, acts: "see what a yes does, and decide", do: view.Cmd(view.Goto{Digit: "8"}), reason: []string{"Its quotas are held for it, and nothing is built before somebody decides."}})
		}
	}
	return out
}

// asked is since when a request waits.
func asked(r *requests.View) time.Time {
	if r.Asked.IsZero() {
		return r.Created
	}
	return r.Asked
}

// hookItems are the hooks that could not tell something lately, which nobody tries any more.
func (v *View) hookItems(now time.Time) []item {
	untold := map[string]int{}
	last := map[string]*hooks.Delivery{}
	var names []string
	for i := range v.deliveries { // the newest first
		d := &v.deliveries[i]
		if d.State != hooks.Failed && d.State != hooks.Unsure || now.Sub(d.At) > untoldFor {
			continue
		}
		if untold[d.Hook] == 0 {
			names, last[d.Hook] = append(names, d.Hook), d
		}
		untold[d.Hook]++
	}
	slices.Sort(names)
	var out []item
	for _, name := range names {
		d := last[name]
		out = append(out, item{rank: rankHook, status: run.Failed, title: fmt.Sprintf("the hook %s did not tell %s", name, plural(untold[name], "event", "events")),
			below: fmt.Sprintf("last %s of %s, %s", d.Event.Type, d.Event.Name, part.Age(d.At, now)), why: d.Note, acts: fmt.Sprintf("andamio hook again %d tells it again", d.ID), do: nil,
			reason: []string{"What a hook tells is tried again for a while, and then given up until somebody has it told again.", d.Note}})
	}
	return out
}

// untoldFor is for how long what was not told needs somebody.
const untoldFor = 7 * 24 * time.Hour
