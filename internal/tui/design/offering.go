package design

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/service/offers"
	"andamio/internal/service/templates"
	"andamio/internal/tui/view"
)

// mostChecking is how long checking an offer may take: up to 64 sets of answers are worked out.
const mostChecking = 2 * time.Minute

// offered is an offer's file that was checked.
type offered struct {
	file *offers.File
	err  error
}

// offering are the acts that make an offer of the template, and go on with the one that was made.
func (v *View) offering() []view.Action {
	out := []view.Action{{Name: "offer this", Effect: "makes an offer of it for people who know nothing of templates: what was changed by hand is fixed, what is bounded is asked for; publishes nothing",
		Ask: "name of the offer", Wrong: templates.NameWrong, Answer: v.offerThis}}
	f := v.offer
	if f == nil {
		return out
	}
	name := filepath.Base(f.Path)
	out = append(out, view.Action{Name: "check " + name + " again", Effect: "reads the file as it is now, and works its answers out", Do: func() tea.Cmd { return v.check(f.Path) }})
	if f.Report == nil {
		return out
	}
	return append(out, view.Action{Name: "see " + f.Offer.Name + " as somebody", Effect: "shows what that person would see of it; asks for nothing", Ask: "who", Wrong: v.notKnown, Answer: func(who string) tea.Cmd {
		return view.Cmd(view.Preview{Who: who, Offer: f.Offer})
	}}, view.Action{Name: "publish " + f.Offer.Name, Effect: "makes it available to " + audience(&f.Offer) + ", in the place of the version before", Do: func() tea.Cmd { return v.publish(f.Path) }})
}

func audience(o *offers.Offer) string {
	if len(o.Audience) == 0 {
		return "everybody"
	}
	return strings.Join(o.Audience, ", ")
}

// notKnown says of a name that nobody has it.
func (v *View) notKnown(who string) string {
	d, err := v.app.Directory()
	if err != nil || d == nil {
		return ""
	}
	if _, known := d.People[who]; !known {
		return "there is nobody called so: " + strings.Join(slices.Sorted(maps.Keys(d.People)), ", ")
	}
	return ""
}

func (v *View) offerThis(name string) tea.Cmd {
	t, changed, preset := v.template, maps.Clone(v.changed), v.presetName()
	return v.checking(func(ctx context.Context) (*offers.File, error) {
		return v.app.OfferThis(ctx, name, t, preset, changed, v.app.Opened().Dir)
	})
}

func (v *View) check(path string) tea.Cmd {
	return v.checking(func(ctx context.Context) (*offers.File, error) { return v.app.OfferFile(ctx, path) })
}

func (v *View) checking(what func(context.Context) (*offers.File, error)) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostChecking)
		defer cancel()
		f, err := what(ctx)
		return offered{f, err}
	}
}

func (v *View) publish(path string) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostChecking)
		defer cancel()
		text, err := os.ReadFile(path)
		if err != nil {
			return view.Failed(err)
		}
		o, _, err := v.app.Publish(ctx, text, filepath.Dir(path))
		if err != nil {
			return view.Failed(err)
		}
		return view.Notice{Text: fmt.Sprintf("%s is offered to %s: version %d", o.Name, audience(&o), o.Number)}
	}
}

// hearOffered keeps an offer's file, and says what came of checking it.
func (v *View) hearOffered(msg offered) tea.Cmd {
	if msg.file != nil {
		v.offer = msg.file
	}
	if msg.err != nil && msg.file == nil {
		return view.Cmd(view.Failed(msg.err))
	}
	return view.Cmd(view.Tell{Note: checked(msg.file, msg.err)})
}

// checked is what came of checking an offer's file, as a note.
func checked(f *offers.File, err error) view.Note {
	n := view.Note{Title: f.Path}
	say := func(lines ...string) {
		for _, l := range lines {
			n.Lines = append(n.Lines, view.Say(l))
		}
	}
	if err != nil {
		var all interface{ Unwrap() []error }
		if errors.As(err, &all) {
			for _, e := range all.Unwrap() {
				say(e.Error())
			}
		} else {
			say(err.Error())
		}
		say("", "The file is yours to change; acts (a) checks it again.")
		return n
	}
	r := f.Report
	say(fmt.Sprintf("%s: %s", f.Offer.Title, r.Says()))
	if r.Most > 0 {
		say(fmt.Sprintf("from %.3f to %.3f %s/h", r.Least, r.Most, r.Currency))
	}
	say("for "+audience(&f.Offer), "")
	for _, bad := range r.Failed[:min(len(r.Failed), 8)] {
		say("cannot be had: "+offers.Said(bad.Answers), "  "+bad.Why)
	}
	say(r.Doubts...)
	if len(r.Changes) > 0 {
		n.Lines = append(n.Lines, view.Listed("against what is published", r.Changes)...)
	}
	n.Lines = append(n.Lines, view.Head("asks"))
	for _, q := range f.Offer.Asked() {
		say(fmt.Sprintf("  %s  %s, usually %s", q.Ask, q.Says(), cmp.Or(fmt.Sprint(q.Default), "nothing")))
	}
	for _, input := range slices.Sorted(maps.Keys(f.Offer.Inputs)) {
		say(fmt.Sprintf("  %s is fixed: %v", input, f.Offer.Inputs[input]))
	}
	say("", "The file is yours to change. Acts (a) checks it again, shows it as somebody would see it, and publishes it.")
	return n
}
