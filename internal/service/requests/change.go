package requests

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/decide"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/offer"
	"andamio/internal/service/offers"
	"andamio/internal/store"
)

// Reanswer gives a request that nobody has decided yet other answers: it is checked, held and decided as if it were asked for now, by its old
// name and in its old place. What cannot be had, or does not fit into a quota, is an error, and the request stays as it was.
func (svc *Service) Reanswer(ctx context.Context, id int64, answers offer.Answers, words string) (out Request, err error) {
	r, err := svc.mine(ctx, id)
	if err != nil {
		return Request{}, err
	}
	err = svc.desk.Do(ctx, guard.Reanswer, thing(&r), func() (err error) {
		out, err = svc.reanswer(ctx, r, answers, strings.TrimSpace(words))
		return err
	})
	return out, err
}

func (svc *Service) reanswer(ctx context.Context, r Request, answers offer.Answers, words string) (Request, error) {
	switch {
	case r.State != store.RequestWaiting && r.State != store.RequestPriced:
		return r, fault.Conflictf("request %d is %s: its answers are not changed any more", r.ID, r.State)
	case maps.Equal(r.Answers, answers):
		return r, fault.Invalidf("these are the answers that request %d has", r.ID)
	}
	was := r
	r.Answers = answers
	q, err := svc.quote(ctx, &r)
	if err != nil {
		return was, err
	}
	if err := agreed(&r, q); err != nil {
		return was, err
	}
	if err := svc.quotas.Reserve(ctx, r.ID, r.Owner, q.Draft().Plan, time.Now()); err != nil {
		return was, err
	}
	r.Decision, r.Yes, r.Asked = decide.Decision{}, nil, time.Time{}
	said := differs(&was, &r)
	if words != "" {
		said += ". " + words
	}
	out, err := svc.change(ctx, r, store.RequestWaiting, svc.event("", said))
	if err != nil { // somebody decided at this moment, what was asked for before
		return was, errors.Join(err, svc.holdAnew(ctx, was.ID))
	}
	return svc.proceed(ctx, out)
}

// otherwise is a request as it would be with other answers, and what it is of.
func (svc *Service) otherwise(ctx context.Context, a Asked) (Request, offers.Offer, error) {
	r, err := svc.mine(ctx, a.Instead)
	if err != nil {
		return r, offers.Offer{}, err
	}
	r.Answers = a.Answers
	o, err := svc.offers.Version(ctx, r.Offer, r.Number)
	return r, o, err
}

// differs says in what the answers of a request differ from those that it had.
func differs(was, now *Request) string {
	var out []string
	inputs := map[string]bool{}
	for _, answers := range []offer.Answers{was.Answers, now.Answers} {
		for input := range answers {
			inputs[input] = true
		}
	}
	for _, input := range slices.Sorted(maps.Keys(inputs)) {
		if a, b := was.Answers[input], now.Answers[input]; a != b {
			out = append(out, fmt.Sprintf("%s %s, not %s", input, said(b, "as usual"), said(a, "as usual")))
		}
	}
	text := "answered otherwise: " + strings.Join(out, "; ")
	if !now.Hidden && was.PerHour != now.PerHour {
		text += fmt.Sprintf("; %.3f %s/h, not %.3f", now.PerHour, now.Currency, was.PerHour)
	}
	return text
}

// holdAnew has a request hold what its answers need, as it is kept: a change of them broke off.
func (svc *Service) holdAnew(ctx context.Context, id int64) error {
	r, err := svc.store.Request(ctx, id)
	if err != nil || !slices.Contains(openStates, r.State) {
		return err
	}
	q, err := svc.quote(ctx, &r)
	if err != nil || q.Draft() == nil {
		return err
	}
	return svc.quotas.Reserve(ctx, r.ID, r.Owner, q.Draft().Plan, time.Now())
}

// Again is what a request asked for, to be asked for once more: of its answers those that the offer still asks for.
func (svc *Service) Again(ctx context.Context, id int64) (Asked, error) {
	v, err := svc.Request(ctx, id)
	if err != nil {
		return Asked{}, err
	}
	o, err := svc.offers.Offer(ctx, v.Offer, 0)
	if err != nil {
		return Asked{}, err
	}
	return Asked{Offer: v.Offer, Answers: stillAsked(&o, v.Answers), Team: v.Owner.Team}, nil
}

// stillAsked are the answers to questions that an offer has.
func stillAsked(o *offers.Offer, answers offer.Answers) offer.Answers {
	out := offer.Answers{}
	for _, q := range o.Asked() {
		if a, is := answers[q.Input]; is {
			out[q.Input] = a
		}
	}
	return out
}

// mostSaved bounds how many sets of answers are offered again.
const mostSaved = 8

// Saved are the answers that the actor gave to an offer before, each set once, the last first: of those that the offer still asks for.
func (svc *Service) Saved(ctx context.Context, name string) ([]offer.Answers, error) {
	o, err := svc.offers.Offer(ctx, name, 0)
	if err != nil {
		return nil, err
	}
	all, err := svc.store.Requests(ctx)
	if err != nil {
		return nil, err
	}
	var out []offer.Answers
	for i := range all {
		r := &all[i]
		if r.Offer != name || r.Person != svc.me() || len(out) == mostSaved {
			continue
		}
		answers := stillAsked(&o, r.Answers)
		if !slices.ContainsFunc(out, func(x offer.Answers) bool { return maps.Equal(x, answers) }) {
			out = append(out, answers)
		}
	}
	return out, nil
}
