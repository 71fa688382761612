package requests

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/quota"
	"andamio/internal/service/offers"
	"andamio/internal/store"
)

// Effect is what a yes would do.
type Effect struct {
	Quote *offers.Quote `json:"quote"`
	// Left is of every quota that it is taken from how much is free now, with it held.
	Left []quota.Use `json:"left,omitempty"`
	// Dearer is that it costs more than was agreed.
	Dearer bool `json:"dearer,omitempty"`
}

// EffectOf is what a yes to a request would do, as things are now.
func (svc *Service) EffectOf(ctx context.Context, r Request) (*Effect, error) {
	q, err := svc.quote(ctx, &r)
	if err != nil {
		return nil, err
	}
	out := &Effect{Quote: q}
	if q.Draft() == nil {
		return out, nil
	}
	out.Dearer = q.Draft().Plan.CostPerHour > r.PerHour
	out.Left, err = svc.quotas.Left(ctx, r.Owner, q.Draft().Plan, time.Now())
	return out, err
}

// mayDecide says why the actor may not decide a request; nil if they may.
func (svc *Service) mayDecide(r *Request, now time.Time) error {
	if r.State != store.RequestWaiting {
		return fault.Conflictf("request %d is %s: there is nothing to decide", r.ID, r.State)
	}
	if r.Person == svc.me() {
		return fault.As(fault.NotAllowed, fmt.Errorf("request %d is your own: somebody else decides it", r.ID))
	}
	if slices.Contains(r.Yes, svc.me()) {
		return fault.Conflictf("you have said yes to request %d already; it takes %d", r.ID, r.Decision.Need)
	}
	d, err := svc.workspace.Directory()
	if err != nil || d == nil || len(r.Decision.Ask) == 0 {
		return err
	}
	asked := slices.Clone(r.Decision.Ask)
	if r.Decision.Wait > 0 && now.Sub(r.Asked) >= r.Decision.Wait {
		asked = append(asked, r.Decision.Next...)
	}
	if d.Asked(svc.me(), r.Person, asked) {
		return nil
	}
	return fault.As(fault.NotAllowed, fmt.Errorf("the rule %s asks %s", r.Decision.Rule, strings.Join(asked, ", ")))
}

// Answer approves a request, or refuses it, with words for whoever asked.
func (svc *Service) Answer(ctx context.Context, id int64, yes bool, words string) (out Request, err error) {
	r, err := svc.store.Request(ctx, id)
	if err != nil {
		return Request{}, svc.unknown(id)
	}
	err = svc.desk.Do(ctx, guard.DecideOn, thing(&r), func() (err error) {
		out, err = svc.answer(ctx, r, yes, strings.TrimSpace(words))
		return err
	})
	return out, err
}

func (svc *Service) answer(ctx context.Context, r Request, yes bool, words string) (Request, error) {
	if err := svc.mayDecide(&r, time.Now()); err != nil {
		return r, err
	}
	if !yes {
		if words == "" {
			return r, fault.Invalidf("say why, for whoever asked")
		}
		return svc.refuse(ctx, r, svc.event(StageRefused, words))
	}
	r.Yes = append(r.Yes, svc.me())
	if len(r.Yes) < r.Decision.Need {
		return svc.change(ctx, r, store.RequestWaiting, svc.event("", said(words, fmt.Sprintf("yes, the %s of %d", ordinal(len(r.Yes)), r.Decision.Need))))
	}
	r, err := svc.change(ctx, r, store.RequestApproved, svc.event(StageApproved, said(words, "yes")))
	if err != nil {
		return r, err
	}
	return svc.proceed(ctx, r)
}

func said(words, otherwise string) string {
	if words == "" {
		return otherwise
	}
	return words
}

func ordinal(n int) string {
	if n < len(ordinals) {
		return ordinals[n]
	}
	return fmt.Sprintf("%dth", n)
}

var ordinals = []string{"none", "first", "second", "third", "fourth"}

// AcceptPrice has a request that costs more than was agreed be built all the same.
func (svc *Service) AcceptPrice(ctx context.Context, id int64) (out Request, err error) {
	r, err := svc.mine(ctx, id)
	if err != nil {
		return Request{}, err
	}
	err = svc.desk.Do(ctx, guard.AcceptPrice, thing(&r), func() (err error) {
		if r.State != store.RequestPriced {
			return fault.Conflictf("request %d is %s: there is no other price to accept", r.ID, r.State)
		}
		if r, err = svc.change(ctx, r, store.RequestApproved, svc.event(StageApproved, "accepted the price")); err == nil {
			out, err = svc.proceed(ctx, r)
		}
		return err
	})
	return out, err
}

// TakeBack withdraws a request of which nothing was built.
func (svc *Service) TakeBack(ctx context.Context, id int64, words string) (out Request, err error) {
	r, err := svc.mine(ctx, id)
	if err != nil {
		return Request{}, err
	}
	err = svc.desk.Do(ctx, guard.TakeBack, thing(&r), func() (err error) {
		if r.State != store.RequestWaiting && r.State != store.RequestPriced {
			return fault.Conflictf("request %d is %s: it is not withdrawn any more", r.ID, r.State)
		}
		if out, err = svc.change(ctx, r, store.RequestWithdrawn, svc.event(StageWithdrawn, said(words, "withdrawn"))); err != nil {
			return err
		}
		return svc.quotas.GiveBack(ctx, r.ID)
	})
	return out, err
}

// SayOf adds words to the thread of a request.
func (svc *Service) SayOf(ctx context.Context, id int64, words string) error {
	if words = strings.TrimSpace(words); words == "" {
		return fault.Invalidf("nothing was said")
	}
	v, err := svc.Request(ctx, id)
	if err != nil {
		return err
	}
	return svc.desk.Do(ctx, guard.SayOf, thing(&v.Request), func() error {
		_, err := svc.change(ctx, v.Request, v.Request.State, svc.event("", words))
		return err
	})
}

// mine is a request of the actor's own, or any for whoever keeps the workspace.
func (svc *Service) mine(ctx context.Context, id int64) (Request, error) {
	r, err := svc.store.Request(ctx, id)
	if err != nil {
		return Request{}, svc.unknown(id)
	}
	d, err := svc.workspace.Directory()
	if err != nil {
		return Request{}, err
	}
	if d == nil || r.Person == svc.me() || d.Unbounded(svc.me(), guard.Keep) {
		return r, nil
	}
	if !svc.sees(d, &r) {
		return Request{}, svc.unknown(id)
	}
	return Request{}, fault.As(fault.NotAllowed, fmt.Errorf("request %d is not yours", id))
}

// unknown is what is said of a request that is not there, and of one that is nobody's business.
func (svc *Service) unknown(id int64) error {
	return fault.NotFoundf("there is no request %d of yours", id)
}
