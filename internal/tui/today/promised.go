package today

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/promise"
	"andamio/internal/core/run"
	"andamio/internal/service/promises"
	"andamio/internal/service/reconcile"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// endsSoon is how long before the end of a lease somebody is told.
const endsSoon = 7 * 24 * time.Hour

// promiseItems are promises that were broken when they were due last, and leases that end soon or are over.
func (v *View) promiseItems(now time.Time) []item {
	var out []item
	for i := range v.promised {
		k := &v.promised[i]
		look := view.Cmd(view.Show{Thing: reconcile.Thing{Kind: reconcile.ADeployment, ID: fmt.Sprint(k.Deployment), Deployment: k.Deployment}})
		if k.Kind == promise.Lease {
			if it, needs := leaseItem(k, look, now); needs {
				out = append(out, it)
			}
		}
		if k.Stale {
			out = append(out, item{rank: rankBroken, status: run.Failed, title: k.Name + ": its copies are too old", below: k.Words, why: cmp.Or(k.Age(now), "nothing was copied yet"), acts: "look at it, and mend what was in the way", do: look,
				reason: []string{"If its site were lost now, more would be lost than " + promise.Span(k.Replicated.Lose) + "."}})
		}
		if n := len(k.Proof.Marks); n > 0 && k.Proof.Marks[n-1].State == promise.Broken {
			m := k.Proof.Marks[n-1]
			last := "it was never kept"
			if !k.Proof.Unproven() {
				last = "kept last " + part.Age(k.Proof.Last, now)
			}
			out = append(out, item{rank: rankBroken, status: run.Failed, title: k.Name + ": a promise is broken", below: k.Words + " · " + last, why: firstLine(m.Note), acts: "look at it, and mend what was in the way", do: look,
				reason: []string{"It was due " + part.Age(m.At, now) + ", and was not done: " + m.Note, fmt.Sprintf("It was kept %d times, was late %d and broken %d.", k.Proof.Kept, k.Proof.Late, k.Proof.Broken)}})
		}
	}
	return out
}

// addressItems are leases of addresses that end soon.
func (v *View) addressItems(now time.Time) []item {
	var out []item
	for i := range v.addresses {
		l := &v.addresses[i]
		left := l.Until.Sub(now)
		if left >= endsSoon {
			continue
		}
		out = append(out, item{rank: rankEnding, status: run.Held, title: fmt.Sprintf("%s at %s ends in %s", l.Value, l.Site, promise.Span(max(left, time.Minute).Round(time.Minute))), below: "leased for " + l.For,
			why: "it is free again then, and a plan may be given it", acts: "extend its lease", do: v.extendAddress(l),
			reason: []string{"It was leased by " + l.By.Name + " for something that is not deployed here: " + l.For + ".", "The lease ends " + l.Until.Local().Format("Mon 2 Jan 15:04") + "."}})
	}
	return out
}

// extendAddress asks by how long the lease of an address is to be longer.
func (v *View) extendAddress(l *promise.AddressLease) tea.Cmd {
	return view.Cmd(view.Prompt{Act: view.Action{Name: "extend the lease of " + l.Value + " at " + l.Site, Effect: "It is leased for " + l.For + ". No plan is given it meanwhile.",
		Ask: "by how long, such as 30d", Wrong: func(text string) string {
			if d, err := promise.ParseSpan(strings.TrimSpace(text)); err != nil || d <= 0 {
				return "that is no span of time, such as 30d or 12h"
			}
			return ""
		}, Answer: func(text string) tea.Cmd {
			return func() tea.Msg {
				ctx, cancel := context.WithTimeout(context.Background(), lookWithin)
				defer cancel()
				more, err := promise.ParseSpan(strings.TrimSpace(text))
				if err != nil {
					return view.Failed(err)
				}
				got, err := v.app.ExtendAddress(ctx, l.Site, l.Value, l.Until.Add(more), time.Now())
				if err != nil {
					return view.Failed(err)
				}
				return view.Notice{Text: got.Words()}
			}
		}}})
}

// levelItems are deployments with a lower service level than a rule asks for, and those whose level says something else by now.
func (v *View) levelItems() []item {
	var out []item
	for i := range v.levels {
		s := &v.levels[i]
		look := view.Cmd(view.Show{Thing: reconcile.Thing{Kind: reconcile.ADeployment, ID: fmt.Sprint(s.Deployment), Deployment: s.Deployment}})
		switch has := cmp.Or(s.Level, "none"); {
		case s.Below:
			out = append(out, item{rank: rankBroken, status: run.Failed, title: s.Name + ": less than " + s.Required, below: "its service level: " + has, why: s.Say, acts: "give it " + s.Required + ", an act in Operate", do: look,
				reason: []string{"The rule " + s.Rule + " asks for " + s.Required + " or better: " + s.Say}})
		case s.Outdated:
			out = append(out, item{rank: rankEnding, status: run.Held, title: s.Name + ": " + s.Level + " was changed", below: "its service level is as it was given", why: "what it was given goes on being kept",
				acts: "give it " + s.Level + " again, an act in Operate", do: look, reason: []string{"The file of service levels was changed since it was given. Giving it again shows what becomes of what is promised."}})
		}
	}
	return out
}

// leaseItem is a lease that ends soon, or is over.
func leaseItem(k *promises.Kept, look tea.Cmd, now time.Time) (item, bool) {
	left := k.Lease.Until.Sub(now)
	if left >= endsSoon {
		return item{}, false
	}
	gone := k.Lease.Until.Add(k.Lease.Grace).Local().Format("Mon 2 Jan 15:04")
	act := "set another end with andamio lease"
	if more := k.Lease.Times - k.Lease.Extended; more > 0 {
		act = fmt.Sprintf("extend it by %s, an act in Operate", promise.Span(k.Lease.By))
	}
	title := fmt.Sprintf("%s ends in %s", k.Name, promise.Span(max(left, time.Minute).Round(time.Minute)))
	if left <= 0 {
		title = k.Name + " has ended"
	}
	return item{rank: rankEnding, status: run.Held, title: title, below: k.Words, why: "it is switched off then, and taken away with all that is on it on " + gone, acts: act, do: look,
		reason: []string{"Its lease says so. It is kept, switched off, until " + gone + "."}}, true
}
