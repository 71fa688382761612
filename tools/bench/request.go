package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/offer"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/requests"
	"andamio/internal/service/templates"
)

// asks is how many requests are measured, and mostBeside how much longer one may take than the plan that builds it.
const (
	asks       = 7
	mostBeside = 2 * time.Second
)

// requested measures how long it takes from the moment somebody asks for an offer, which a rule approves, until it serves, without the time that
// the plan itself is expected to take.
func requested(dir string) ([]result, error) {
	ctx := context.Background()
	e, err := templates.DemoEstate()
	if err != nil {
		return nil, err
	}
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: 0.05, Seed: 1})
	if err != nil {
		return nil, err
	}
	defer box.Close()
	a, err := app.Open(ctx, filepath.Join(dir, "requests"), app.InProcess(ctx))
	if err != nil {
		return nil, err
	}
	defer a.Close()
	if err := a.ConnectSandbox(box); err != nil {
		return nil, err
	}
	text, err := os.ReadFile("examples/offers/trial-map.yaml")
	if err != nil {
		return nil, err
	}
	if _, _, err := a.Publish(ctx, text, "examples/offers"); err != nil {
		return nil, err
	}
	if _, err := a.SetApprovals(ctx, []byte("version: andamio.approvals/1\nrules: [ { rule: all, then: approve, say: All are approved. } ]")); err != nil {
		return nil, err
	}
	whole, beside := make([]time.Duration, 0, asks), make([]time.Duration, 0, asks)
	for range asks {
		took, plan, err := askedFor(ctx, a)
		if err != nil {
			return nil, err
		}
		whole, beside = append(whole, took), append(beside, max(took-plan, time.Millisecond))
	}
	figure := percentile(beside, 50)
	return []result{{name: "request until it serves, beside its plan's time", figure: figure, ratio: float64(figure) / float64(percentile(whole, 50)), base: "all of it", target: mostBeside}}, nil
}

// askedFor asks for a trial and waits until it serves.
func askedFor(ctx context.Context, a *app.App) (took, plan time.Duration, err error) {
	begun := time.Now()
	r, err := a.AskFor(ctx, requests.Asked{Offer: "trial-map", Answers: offer.Answers{"fronts": "1"}})
	if err != nil {
		return 0, 0, err
	}
	for end := begun.Add(time.Minute); time.Now().Before(end); time.Sleep(time.Millisecond) {
		made, err := a.Run(ctx, r.Run)
		if err != nil {
			return 0, 0, err
		}
		switch made.State {
		case run.Standing:
			return time.Since(begun), time.Duration(r.Seconds * float64(time.Second)), nil
		case run.Failed, run.Stopped:
			return 0, 0, fmt.Errorf("run %d is %s", made.ID, made.State)
		}
	}
	return 0, 0, fmt.Errorf("request %d does not serve after a minute", r.ID)
}
