package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/ledger"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
	"andamio/internal/store/sqlite"
)

// A year of so many deployments of so many instances each, which are switched off for a while.
const (
	yearDeployments = 500
	yearInstances   = 20
)

// accounts measures the account of a year, by team and month, in a process that begins: from the journals the first time, and from the
// books that were kept of them after that.
func accounts(dir string) ([]result, error) {
	ws := filepath.Join(dir, "account")
	if err := os.MkdirAll(ws, 0o700); err != nil {
		return nil, err
	}
	began := time.Now().UTC().AddDate(-1, 0, 0)
	if err := yearOf(filepath.Join(ws, workspace.FileDatabase), began); err != nil {
		return nil, err
	}
	asked := func() (time.Duration, error) {
		ctx := context.Background()
		start := time.Now()
		a, err := app.Open(ctx, ws, app.Idle())
		if err != nil {
			return 0, err
		}
		defer a.Close()
		out, err := a.Account(ctx, ledger.Query{From: began, To: time.Now(), By: "team", Every: ledger.Monthly}, time.Now())
		if err == nil && out.Total.Hours < 0.8*365*24*yearDeployments*yearInstances {
			err = fmt.Errorf("the account has %.0f hours", out.Total.Hours)
		}
		return time.Since(start), err
	}
	first, err := asked()
	if err != nil {
		return nil, err
	}
	kept, err := median(asked)
	if err != nil {
		return nil, err
	}
	name := fmt.Sprintf("account of a year of %d instances", yearDeployments*yearInstances)
	return []result{{name: name + ", by month", figure: kept, ratio: float64(kept) / float64(first), base: "the same from the journals", target: time.Second},
		{name: name + ", from the journals", figure: first, ratio: 1, base: "itself"}}, nil
}

// yearOf makes a database in which deployments stand for a year.
func yearOf(file string, began time.Time) error {
	ctx := context.Background()
	s, err := sqlite.Open(ctx, file)
	if err != nil {
		return err
	}
	defer s.Close()
	raise := pool(op.Create)
	halt, boot := pool(op.Halt), pool(op.Boot)
	ids := map[*plan.Plan]int64{}
	for _, p := range []*plan.Plan{raise, halt, boot} {
		if ids[p], err = s.SavePlan(ctx, p); err != nil {
			return err
		}
	}
	for n := range yearDeployments {
		d, err := s.CreateDeployment(ctx, fmt.Sprintf("pool-%d", n), "", guard.Owner{Team: fmt.Sprintf("team-%d", n%12)})
		if err != nil {
			return err
		}
		at := began.Add(time.Duration(n) * time.Minute)
		for _, p := range []*plan.Plan{raise, halt, boot} {
			if err := went(ctx, s, d, p, ids[p], at); err != nil {
				return err
			}
			at = at.AddDate(0, 0, 20)
		}
	}
	return nil
}

// pool is a plan that does one thing to instances of a pool.
func pool(what op.Op) *plan.Plan {
	p := &plan.Plan{Version: plan.Version, Name: "pool", Currency: "cr", Inputs: map[string]any{}, Sites: []plan.Site{{Name: "vega", Kind: "private"}}}
	if what != op.Create {
		p.Purpose = string(what)
	}
	for i := range yearInstances {
		id := fmt.Sprintf("worker-%d", i+1)
		p.Resources = append(p.Resources, plan.Resource{ID: id, Node: "worker", Title: id, Kind: kinds.Instance, Site: "vega", Zone: "a", CostPerHour: money.Of(0.0931), CostOff: money.Of(0.0071),
			Off: what == op.Halt, Spec: plan.InstanceSpec{Cores: 2, MemoryGiB: 8, DiskGiB: 20}})
		p.Steps = append(p.Steps, plan.Step{ID: what.On(id), Resource: id, Op: what, Title: string(what), Site: "vega", Seconds: 20, Check: plan.Condition{Kind: plan.CheckSite}})
	}
	if err := p.Arrange(); err != nil {
		panic(err)
	}
	return p
}

// went is a run of a plan that went well at a time.
func went(ctx context.Context, s *sqlite.Store, deployment int64, p *plan.Plan, id int64, at time.Time) error {
	r, err := s.CreateRun(ctx, store.Run{Plan: id, Deployment: deployment, Purpose: p.Purpose, Wanted: id, Steps: len(p.Steps)})
	if err != nil {
		return err
	}
	epoch, err := s.Claim(ctx, r, 0, store.WorkerOn("bench", os.Getpid()), func(store.Run) bool { return false })
	if err != nil {
		return err
	}
	j, err := s.Journal(ctx, r, epoch)
	if err != nil {
		return err
	}
	events := []run.Event{{At: at, Kind: run.RunStarted}}
	for i := range p.Steps {
		st := &p.Steps[i]
		events = append(events, run.Event{At: at, Kind: run.StepStarted, Step: st.ID})
		at = at.Add(time.Second)
		if st.Op == op.Create {
			events = append(events, run.Event{At: at, Kind: run.StepAsked, Step: st.ID, Resource: st.Resource, Attributes: map[string]string{"site.id": st.Resource}})
		}
		events = append(events, run.Event{At: at.Add(time.Minute), Kind: run.StepDone, Step: st.ID})
	}
	events = append(events, run.Event{At: at.Add(2 * time.Minute), Kind: run.RunEnded, Good: true, Text: "everything stands"})
	if err := j.Append(events...); err != nil {
		return err
	}
	if err := j.Close(); err != nil {
		return err
	}
	return s.Finish(ctx, r, epoch, run.Standing)
}
