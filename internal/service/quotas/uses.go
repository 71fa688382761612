package quotas

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
	"andamio/internal/core/quota"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Use is how much of an account is taken, and how a month's budget goes on.
type Use struct {
	quota.Use
	Forecast *quota.Forecast `json:"forecast,omitempty"`
}

// Uses are how much of every quota is used, held, paused and free.
func (svc *Service) Uses(ctx context.Context, now time.Time) ([]Use, error) {
	if err := svc.roll(ctx, now); err != nil {
		return nil, err
	}
	f, err := svc.workspace.Quotas()
	if err != nil {
		return nil, err
	}
	taken, err := svc.store.Takes(ctx)
	if err != nil {
		return nil, err
	}
	uses := quota.Uses(taken, now)
	perHour, err := svc.perHour(ctx, f, now)
	if err != nil {
		return nil, err
	}
	var out []Use
	for _, u := range withUntouched(uses, f, now) {
		x := Use{Use: u}
		if most, limited := f.Most(u.Account, u.Measure); limited {
			x.Most = most // as it is now, whatever it was when it was taken from
		}
		if u.Measure == quota.PerMonth {
			// What is taken of a month goes to its end already: what is spent is without that.
			forecast := quota.Forecasts(x.Most, u.Used+u.Paused-restOf(perHour[u.Account], now), perHour[u.Account], now)
			x.Forecast = &forecast
		}
		out = append(out, x)
	}
	return svc.concern(out, f)
}

func restOf(perHour int64, now time.Time) int64 {
	return quota.MonthOf(now).RestOf(perHour, now)
}

// perHour is what everything that stands costs an hour, by account of a month.
func (svc *Service) perHour(ctx context.Context, f *quota.File, now time.Time) (map[string]int64, error) {
	all, err := svc.store.Holds(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, h := range all {
		if h.State == quota.Held {
			continue
		}
		around, err := svc.around(h.Owner.Team)
		if err != nil {
			return nil, err
		}
		for account, n := range f.PerHour(h.Parts, h.Owner, around, now) {
			out[account] += n
		}
	}
	return out, nil
}

// withUntouched adds the quotas of which nothing is taken, and which are nobody's for himself.
func withUntouched(uses []quota.Use, f *quota.File, now time.Time) []quota.Use {
	for _, u := range f.Accounts(now) {
		if !slices.ContainsFunc(uses, func(x quota.Use) bool { return x.Account == u.Account && x.Measure == u.Measure }) {
			uses = append(uses, u)
		}
	}
	slices.SortStableFunc(uses, func(a, b quota.Use) int {
		if c := strings.Compare(a.Account, b.Account); c != 0 {
			return c
		}
		return slices.Index(quota.Measures, a.Measure) - slices.Index(quota.Measures, b.Measure)
	})
	return uses
}

// Quotas are the workspace's quotas.
func (svc *Service) Quotas() (*quota.File, error) {
	if err := svc.desk.Read("all quotas"); err != nil {
		return nil, err
	}
	return svc.workspace.Quotas()
}

// SetQuotas keeps how much whom may have, from the text of its file. What is taken stays taken, though it be more.
func (svc *Service) SetQuotas(ctx context.Context, text []byte) (*quota.File, error) {
	f, err := workspace.ReadNaming(svc.workspace, text, quota.Read)
	if err != nil {
		return nil, err
	}
	return f, svc.desk.Do(ctx, guard.SetQuotas, guard.Named(fmt.Sprintf("%d quotas", len(f.Quotas))), func() error {
		if err := svc.workspace.SetQuotas(text); err != nil {
			return err
		}
		return svc.retakeAll(ctx, time.Now())
	})
}

// retakeAll has everything that is held, used or paused taken of the quotas as they are now.
func (svc *Service) retakeAll(ctx context.Context, now time.Time) error {
	all, err := svc.store.Holds(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		h := all[i]
		h.At = now
		if err := svc.change(ctx, &all[i], &h, now, true); err != nil {
			return err
		}
	}
	return nil
}

// Left is how much is left of every quota that a plan of somebody would be taken from.
func (svc *Service) Left(ctx context.Context, of guard.Owner, p *plan.Plan, now time.Time) ([]quota.Use, error) {
	left, _, err := svc.left(ctx, of, p, now)
	return left, err
}

// left is how much is left of every quota that a plan would be taken from, and what would be taken of each.
func (svc *Service) left(ctx context.Context, of guard.Owner, p *plan.Plan, now time.Time) ([]quota.Use, []quota.Take, error) {
	takes, err := svc.takes(&store.Hold{Owner: of, Parts: PartsOf(p)}, now)
	if err != nil {
		return nil, nil, err
	}
	taken, err := svc.store.Takes(ctx)
	if err != nil {
		return nil, nil, err
	}
	all := quota.Uses(taken, now)
	var out []quota.Use
	for _, t := range takes {
		u := quota.Use{Account: t.Account, Measure: t.Measure, Most: t.Most}
		for _, x := range all {
			if x.Account == t.Account && x.Measure == t.Measure {
				u.Used, u.Held, u.Paused = x.Used, x.Held, x.Paused
			}
		}
		out = append(out, u)
	}
	return out, takes, nil
}

// LeftAfter is how much is left of every quota once a plan of somebody is taken from it, in the place of what is held for a request, and
// which one does not have that much. A request of 0 is none.
func (svc *Service) LeftAfter(ctx context.Context, request int64, of guard.Owner, p *plan.Plan, now time.Time) (left []quota.Use, over string, err error) {
	left, takes, err := svc.left(ctx, of, p, now)
	if err != nil {
		return nil, "", err
	}
	had, err := svc.heldOf(ctx, request)
	if err != nil {
		return nil, "", err
	}
	for i, t := range takes {
		if k := slices.IndexFunc(had, same(t)); k >= 0 {
			left[i].Held -= had[k].Amount
		}
		if left[i].Free() < t.Amount && over == "" {
			over = (&quota.Overrun{Take: t, Taken: left[i].Most - left[i].Free()}).Error()
		}
		left[i].Held += t.Amount
	}
	return left, over, nil
}

// heldOf is what is held for a request of which nothing is built.
func (svc *Service) heldOf(ctx context.Context, request int64) ([]quota.Take, error) {
	if request == 0 {
		return nil, nil
	}
	h, err := svc.store.HoldOf(ctx, request, 0)
	if err != nil || h == nil {
		return nil, err
	}
	return svc.store.TakesOf(ctx, h.ID)
}

// concern leaves the accounts that somebody is to see: all for whoever may read, else those that something of theirs would be taken from.
func (svc *Service) concern(uses []Use, f *quota.File) ([]Use, error) {
	d, err := svc.workspace.Directory()
	me := svc.desk.Actor.Name
	if err != nil || d == nil || d.Unbounded(me, guard.Read) || d.Unbounded(me, guard.Account) {
		return uses, err
	}
	teams := d.TeamsOf(me)
	var around []string
	for _, t := range teams {
		around = append(around, d.Around(t)...)
	}
	return slices.DeleteFunc(uses, func(u Use) bool { return !f.Concerns(u.Account, me, teams, around) }), nil
}
