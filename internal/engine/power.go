package engine

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// power switches an instance off or on. One that is so already is left alone; one that is on its way elsewhere is asked
// again when it has got there.
func (e *Engine) power(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	want := site.Stopped
	if s.Op == op.Boot {
		want = site.Active
	}
	id, err := e.siteIDOf(s, r)
	if err != nil {
		return err
	}
	got, err := e.switched(ctx, s, id)
	if err != nil {
		return err
	}
	woken, stop := e.Wakes.wait(s.Site, id)
	defer stop()
	wait := max(time.Duration(s.Seconds*float64(time.Second)), 20*time.Millisecond)
	for got.State != want {
		if got.State == site.Failed {
			return fmt.Errorf("%s says it failed: %s", s.Site, got.Word)
		}
		if err := e.sleep(ctx, woken, wait); err != nil {
			return err
		}
		wait = max(wait/4, 40*time.Millisecond)
		if got, err = e.read(ctx, s, kinds.Instance, id); err != nil {
			return err
		}
		if got.State != want && rests(got) {
			if got, err = e.switched(ctx, s, id); err != nil {
				return err
			}
		}
	}
	if err := e.record(e.siteSays(r, got)); err != nil || s.Op != op.Boot {
		return err
	}
	return e.meet(ctx, s, r)
}

// rests reports that a thing is on its way nowhere.
func rests(r site.Resource) bool {
	return r.State == site.Active || r.State == site.Stopped || r.State == site.Suspended
}

// switched asks a site to switch an instance, and returns how it is then.
func (e *Engine) switched(ctx context.Context, s *plan.Step, id string) (site.Resource, error) {
	action := map[bool]string{true: "start", false: "stop"}[s.Op == op.Boot]
	var got site.Resource
	err := e.call(ctx, s, func() (err error) {
		got, err = e.Sites[s.Site].Invoke(ctx, kinds.Instance, id, action)
		return err
	})
	if err != nil && site.ClassOf(err) == site.Conflict { // it may be so already, or on its way
		return e.read(ctx, s, kinds.Instance, id)
	}
	return got, err
}

// meet learns how an instance that was switched on is reached, and how it finds its volumes: a site may tell only when it is there what it is.
func (e *Engine) meet(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	if err := e.meetVolumes(ctx, s, r); err != nil {
		return err
	}
	for i := range e.Plan.Resources {
		f := &e.Plan.Resources[i]
		id, known := e.Attribute(f.ID, "site.id")
		if f.Kind != kinds.Interface || f.AsInterface().Instance != r.ID || !known || id == "" {
			continue
		}
		got, err := e.read(ctx, s, kinds.Interface, id)
		if err != nil {
			return err
		}
		if err := e.record(run.Event{Kind: run.Learned, Resource: f.ID, Attributes: got.Attributes}); err != nil {
			return err
		}
	}
	return nil
}

// meetVolumes learns how the system of an instance finds the volumes that were put into it while it was off.
func (e *Engine) meetVolumes(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	for i := range e.Plan.Steps {
		attach := &e.Plan.Steps[i]
		if attach.Op != op.Attach || attach.Resource != r.ID {
			continue
		}
		id, known := e.Attribute(r.ID, siteID(attach))
		if !known || id == "" {
			continue
		}
		got, err := e.read(ctx, s, kinds.Attachment, id)
		if err != nil {
			return err
		}
		at := mountOf(attach.Volume)
		where := learned(attach, got)[at]
		if before, _ := e.Attribute(r.ID, at); where == before {
			continue
		}
		if err := e.record(run.Event{Kind: run.Learned, Resource: r.ID, Attributes: map[string]string{at: where}}); err != nil {
			return err
		}
	}
	return nil
}
