package quotas

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/quota"
	"andamio/internal/store"
)

// PartsOf is what the resources of a plan take at each site. What is switched off takes its disk and addresses, and costs what it costs then.
func PartsOf(p *plan.Plan) []quota.Part {
	at := map[string]quota.Amounts{}
	for i := range p.Resources {
		r := &p.Resources[i]
		a := at[r.Site]
		if a == nil {
			a = quota.Amounts{}
			at[r.Site] = a
		}
		a[quota.DiskGiB] += quota.DiskGiB.Amount(r.DiskGiB())
		a[quota.PerHour] += int64(r.Costs())
		switch {
		case r.Kind == kinds.Interface:
			a[quota.Addresses]++
		case r.Kind == kinds.Instance && !r.Off:
			a[quota.Instances]++
			a[quota.Cores] += int64(r.AsInstance().Cores)
			a[quota.MemoryGiB] += quota.MemoryGiB.Amount(r.AsInstance().MemoryGiB)
		}
	}
	var out []quota.Part
	for _, site := range slices.Sorted(maps.Keys(at)) {
		a := at[site]
		maps.DeleteFunc(a, func(_ quota.Measure, n int64) bool { return n == 0 })
		if len(a) > 0 {
			out = append(out, quota.Part{Site: site, Amounts: a})
		}
	}
	return out
}

// larger are parts of which each amount is the larger of two: while one is made of the other, either may be there.
func larger(a, b []quota.Part) []quota.Part {
	at := map[string]quota.Amounts{}
	for _, p := range slices.Concat(a, b) {
		if at[p.Site] == nil {
			at[p.Site] = quota.Amounts{}
		}
		for m, n := range p.Amounts {
			at[p.Site][m] = max(at[p.Site][m], n)
		}
	}
	var out []quota.Part
	for _, site := range slices.Sorted(maps.Keys(at)) {
		out = append(out, quota.Part{Site: site, Amounts: at[site]})
	}
	return out
}

// Reserve takes what a plan would need for somebody's request, before anything is built, in the place of what is held for it.
// *[quota.Overrun] says what there is not enough of; what was held is held then.
func (svc *Service) Reserve(ctx context.Context, request int64, of guard.Owner, p *plan.Plan, now time.Time) error {
	h := store.Hold{Request: request, Owner: of, Parts: PartsOf(p), State: quota.Held, At: now}
	takes, err := svc.takes(&h, now)
	if err != nil {
		return err
	}
	held, err := svc.store.HoldOf(ctx, request, 0)
	switch {
	case err != nil:
		return err
	case held != nil:
		h.ID = held.ID
		return svc.store.ChangeHold(ctx, h, takes, false)
	}
	_, err = svc.store.HoldQuota(ctx, h, takes)
	return err
}

// takes are what a hold that is new takes.
func (svc *Service) takes(h *store.Hold, now time.Time) ([]quota.Take, error) {
	f, err := svc.workspace.Quotas()
	if err != nil {
		return nil, err
	}
	around, err := svc.around(h.Owner.Team)
	if err != nil {
		return nil, err
	}
	return f.Takes(h.Parts, h.Owner, around, now), nil
}

// Before takes what a change of a deployment may need while it goes on: the larger of what is there and what is wanted. A deployment of
// which nothing is taken yet is taken over as it is.
func (svc *Service) Before(ctx context.Context, deployment int64, wanted *plan.Plan, now time.Time) error {
	d, err := svc.store.Deployment(ctx, deployment)
	if err != nil {
		return err
	}
	h, err := svc.store.HoldOf(ctx, 0, deployment)
	if err != nil {
		return err
	}
	if h == nil {
		h := store.Hold{Deployment: deployment, Owner: d.Owner, Parts: PartsOf(wanted), State: quota.Held, At: now}
		takes, err := svc.takes(&h, now)
		if err != nil {
			return err
		}
		_, err = svc.store.HoldQuota(ctx, h, takes)
		return err
	}
	was := *h
	h.Parts, h.Owner, h.At = larger(h.Parts, PartsOf(wanted)), d.Owner, now
	return svc.change(ctx, &was, h, now, false)
}

// After has a deployment take what stands of it, and nothing more: after a run, and whenever what stands has changed otherwise. What it has
// cost in this month stays taken.
func (svc *Service) After(ctx context.Context, deployment int64, stand change.Standing, now time.Time) error {
	h, err := svc.store.HoldOf(ctx, 0, deployment)
	if err != nil || h == nil {
		return err
	}
	was := *h
	h.Parts, h.State, h.At = nil, quota.Used, now
	if stand.Plan != nil {
		h.Parts = PartsOf(stand.Plan)
		if paused(stand.Plan) {
			h.State = quota.Paused
		}
	}
	return svc.change(ctx, &was, h, now, true)
}

// Given has what a deployment takes be of somebody else's quotas from now on, though it be more than there is: it stands. What it has cost
// in this month stays with whose it was.
func (svc *Service) Given(ctx context.Context, deployment int64, to guard.Owner, now time.Time) error {
	h, err := svc.store.HoldOf(ctx, 0, deployment)
	if err != nil || h == nil {
		return err
	}
	was := *h
	h.Owner, h.At = to, now
	return svc.change(ctx, &was, h, now, true)
}

// paused reports that everything is switched off.
func paused(p *plan.Plan) bool {
	any := false
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Kind == kinds.Instance {
			if !r.Off {
				return false
			}
			any = true
		}
	}
	return any
}

// GiveBack gives back what was held for a request of which nothing was built.
func (svc *Service) GiveBack(ctx context.Context, request int64) error {
	h, err := svc.store.HoldOf(ctx, request, 0)
	if err != nil || h == nil {
		return err
	}
	h.Parts = nil
	return svc.store.ChangeHold(ctx, *h, nil, true)
}

// Built says that what was held for a request is of a deployment now.
func (svc *Service) Built(ctx context.Context, request, deployment int64, now time.Time) error {
	h, err := svc.store.HoldOf(ctx, request, 0)
	if err != nil || h == nil {
		return err
	}
	was := *h
	h.Deployment = deployment
	return svc.change(ctx, &was, h, now, true)
}

// change puts what a hold takes now in the place of what it took. Of a month's budget it keeps what has been spent.
func (svc *Service) change(ctx context.Context, was, now *store.Hold, at time.Time, force bool) error {
	f, err := svc.workspace.Quotas()
	if err != nil {
		return err
	}
	around, err := svc.around(now.Owner.Team)
	if err != nil {
		return err
	}
	takes := f.Takes(now.Parts, now.Owner, around, at)
	if was.State != quota.Held { // what is held only costs nothing yet
		had, err := svc.store.TakesOf(ctx, was.ID)
		if err != nil {
			return err
		}
		before, err := svc.around(was.Owner.Team)
		if err != nil {
			return err
		}
		month := quota.MonthOf(at)
		cost, err := svc.spending.CostOf(ctx, was.Deployment, month.Start, at)
		if err != nil {
			return err
		}
		rest := f.Takes(was.Parts, was.Owner, before, at)
		takes = withSpent(takes, spent(month, had, rest, f.Spent(cost, was.Owner, before, month)))
	}
	return svc.store.ChangeHold(ctx, *now, takes, force)
}

// spent is what a hold has cost of each month's budget until now: what it took of it, without what it would have cost to the month's end
// (rest). Of a budget of this month of which it took nothing yet, such as one that was set since, it is what the account says that it cost.
func spent(month quota.Month, had, rest, cost []quota.Take) []quota.Take {
	var out []quota.Take
	for _, t := range had {
		if t.Measure != quota.PerMonth || !strings.HasSuffix(t.Account, "#"+month.Name) {
			continue
		}
		if i := slices.IndexFunc(rest, same(t)); i >= 0 {
			t.Amount -= rest[i].Amount
		}
		out = append(out, t)
	}
	for _, t := range cost {
		if !slices.ContainsFunc(had, same(t)) {
			out = append(out, t)
		}
	}
	return out
}

func same(t quota.Take) func(quota.Take) bool {
	return func(x quota.Take) bool { return x.Account == t.Account && x.Measure == t.Measure }
}

// withSpent adds what was spent to what is taken.
func withSpent(takes, spent []quota.Take) []quota.Take {
	for _, t := range spent {
		i := slices.IndexFunc(takes, same(t))
		if i < 0 {
			takes = append(takes, t)
			continue
		}
		takes[i].Amount += t.Amount
	}
	return slices.DeleteFunc(takes, func(t quota.Take) bool { return t.Amount == 0 })
}

// roll has what stands take of the budgets of a month that has begun since.
func (svc *Service) roll(ctx context.Context, now time.Time) error {
	all, err := svc.store.Holds(ctx)
	if err != nil {
		return err
	}
	for i := range all {
		h := all[i]
		if h.State == quota.Held || !h.At.Before(quota.MonthOf(now).Start) {
			continue
		}
		h.At = now
		if err := svc.change(ctx, &all[i], &h, now, true); err != nil {
			return err
		}
	}
	return nil
}
