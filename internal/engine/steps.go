package engine

import (
	"context"
	"errors"
	"fmt"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// do performs a step and returns when its condition holds, or it cannot.
func (e *Engine) do(ctx context.Context, s *plan.Step) error {
	ctx, cancel := context.WithTimeoutCause(ctx, deadline(s), fmt.Errorf("not done after %s", deadline(s)))
	defer cancel()
	err := e.perform(ctx, s)
	if err != nil && errors.Is(err, context.DeadlineExceeded) {
		return context.Cause(ctx)
	}
	return err
}

func (e *Engine) perform(ctx context.Context, s *plan.Step) error {
	r := e.Plan.Resource(s.Resource)
	switch {
	case s.Op == plan.Require:
		if holds, why := e.holds(*s.When, s.Resource); !holds {
			return errors.New(why)
		}
		return nil
	case s.Script != nil:
		return e.script(ctx, s, r)
	case s.Check.Kind == plan.CheckTCP || s.Check.Kind == plan.CheckHTTP:
		return e.probe(ctx, s)
	case s.Check.Kind == plan.CheckSite:
		return e.build(ctx, s, r)
	}
	return nil
}

// Deadlines: a step may take many times what is expected of it, and never less than a minute.
const (
	leastDeadline = time.Minute
	patience      = 15
)

func deadline(s *plan.Step) time.Duration {
	if s.Script != nil && s.Script.Timeout > 0 {
		return time.Duration(s.Script.Timeout * float64(time.Second))
	}
	return max(leastDeadline, time.Duration(s.Seconds*patience*float64(time.Second)))
}

// siteID is the attribute under which a resource's id at its site is known; an attachment belongs to its instance and
// is told apart by its volume.
func siteID(s *plan.Step) string {
	if s.Op == plan.Attach {
		return "site.id." + s.Volume
	}
	return "site.id"
}

// build asks a site for a resource and waits until it says active.
func (e *Engine) build(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	at := e.Sites[s.Site]
	req, err := e.request(s, r)
	if err != nil {
		return err
	}
	var got site.Resource
	err = e.retry(ctx, s, func() (err error) {
		got, err = at.Create(ctx, req)
		return err
	})
	if err != nil {
		return err
	}
	asked := run.Event{Kind: run.StepAsked, Step: s.ID, Resource: r.ID, Attributes: map[string]string{siteID(s): got.ID}}
	if err := e.record(asked, e.siteSays(r, got)); err != nil {
		return err
	}
	return e.waitActive(ctx, s, r, got)
}

func (e *Engine) siteSays(r *plan.Resource, got site.Resource) run.Event {
	return run.Event{Kind: run.SiteSays, Resource: r.ID, Text: got.Word, Good: got.State == site.Active}
}

// waitActive asks for a resource's state, seldom at first and more often about the time it is expected.
func (e *Engine) waitActive(ctx context.Context, s *plan.Step, r *plan.Resource, got site.Resource) error {
	at := e.Sites[s.Site]
	expected := time.Duration(s.Seconds * float64(time.Second))
	wait := max(expected*6/10, 20*time.Millisecond)
	for {
		switch got.State {
		case site.Active:
			return e.record(run.Event{Kind: run.Learned, Resource: r.ID, Attributes: got.Attributes})
		case site.Failed:
			return fmt.Errorf("%s says it failed: %s", s.Site, got.Word)
		}
		if err := pause(ctx, wait); err != nil {
			return err
		}
		wait = min(max(expected/10, 40*time.Millisecond), 5*time.Second)
		err := e.retry(ctx, s, func() error {
			now, err := at.Read(ctx, got.Kind, got.ID)
			if err == nil { // what a failed call returns must not take the place of what is known
				got = now
			}
			return err
		})
		if err != nil {
			return err
		}
		if err := e.record(e.siteSays(r, got)); err != nil {
			return err
		}
	}
}

// request is what a step asks of a site.
func (e *Engine) request(s *plan.Step, r *plan.Resource) (site.Request, error) {
	sp := r.Spec
	req := site.Request{Name: r.ID, Mark: "andamio " + e.Run + " " + s.ID, Key: e.Run + "/" + s.ID, Zone: r.Zone, Host: r.Host}
	var err error
	switch {
	case s.Op == plan.Attach:
		req.Kind, req.Name, req.Location = site.Attachment, r.ID+" "+s.Volume, s.Location
		req.Source, req.Target, err = e.ends(r.ID, s.Volume)
	case r.Kind == plan.Interface:
		req.Kind, req.Ports, req.Address = site.Interface, sp.Ports, sp.Address
		req.Source, req.Target, err = e.ends(sp.Instance, sp.Network)
	case r.Kind == plan.Network:
		req.Kind, req.Name, req.CIDR, req.VLAN = site.Network, sp.Label, sp.CIDR, sp.VLAN
	case r.Kind == plan.Volume:
		req.Kind, req.DiskGiB = site.Volume, sp.DiskGiB
	case r.Kind == plan.Instance:
		req.Kind, req.Hostname, req.Size, req.Image = site.Instance, sp.Hostname, sp.Size, sp.Image
		req.Cores, req.MemoryGiB, req.DiskGiB = sp.Cores, sp.MemoryGiB, sp.DiskGiB
		req.PublicKey = publicKey(e.Key)
	default:
		err = fmt.Errorf("a site cannot build %s", r.Kind)
	}
	return req, err
}

// ends are the site's ids of a link's two resources.
func (e *Engine) ends(source, target string) (string, string, error) {
	a, okA := e.Attribute(source, "site.id")
	b, okB := e.Attribute(target, "site.id")
	if !okA || !okB {
		return "", "", fmt.Errorf("the site's ids of %s and %s are not known", source, target)
	}
	return a, b, nil
}

// maxRetries bounds how often a call that may succeed later is made again.
const maxRetries = 5

// retry makes a call until it succeeds, is refused for good, or has failed too often.
func (e *Engine) retry(ctx context.Context, s *plan.Step, call func() error) error {
	wait := 200 * time.Millisecond
	for try := 0; ; try++ {
		err := call()
		if err == nil || ctx.Err() != nil {
			return err
		}
		class := site.ClassOf(err)
		if class != site.Transient && class != site.RateLimited || try == maxRetries {
			return err
		}
		var limited *site.Error
		if errors.As(err, &limited) && limited.After > 0 {
			wait = limited.After
		}
		if err := e.record(run.Event{Kind: run.StepRetry, Step: s.ID, Resource: s.Resource, Text: err.Error()}); err != nil {
			return err
		}
		if err := pause(ctx, wait); err != nil {
			return err
		}
		wait *= 2
	}
}

func pause(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
