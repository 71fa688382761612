package engine

import (
	"context"
	"fmt"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// kindOf is the site's kind of what a step removes or changes.
func kindOf(s *plan.Step, r *plan.Resource) site.Kind {
	switch {
	case s.Op == op.Detach:
		return site.Attachment
	case r.Kind == plan.Interface:
		return site.Interface
	case r.Kind == plan.Network:
		return site.Network
	case r.Kind == plan.Volume:
		return site.Volume
	case r.Kind == plan.Object:
		return site.Object
	}
	return site.Instance
}

// remove takes a thing away: the one that is known, and any other that bears the mark of the step that built it, which a
// run that broke off may have left.
func (e *Engine) remove(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	kind := kindOf(s, r)
	id, known := e.Attribute(r.ID, siteID(s))
	if known && id != "" {
		if err := e.erase(ctx, s, kind, id); err != nil {
			return err
		}
		return e.record(run.Event{Kind: run.SiteSays, Resource: r.ID, Text: "gone"},
			run.Event{Kind: run.Learned, Resource: r.ID, Attributes: map[string]string{siteID(s): ""}})
	}
	if len(s.Drops) == 0 {
		return nil
	}
	all, err := e.look(ctx, s, kind)
	if err != nil {
		return err
	}
	for _, f := range bearing(all, e.markOf(s.Drops[0])) {
		if err := e.erase(ctx, s, kind, f.ID); err != nil {
			return err
		}
	}
	return nil
}

// erase deletes a thing and looks that it is gone: a site may say so and not have done it, or fail and have done it.
// What is in the way of it, such as a link that is just being removed, is waited for.
func (e *Engine) erase(ctx context.Context, s *plan.Step, kind site.Kind, id string) error {
	wait := e.Patience.Wait / 4
	var inTheWay error
	for {
		err := e.call(ctx, s, func() error { return e.Sites[s.Site].Delete(ctx, kind, id) })
		class := site.ClassOf(err)
		switch {
		case err != nil && class == site.NotFound:
			return nil
		case err != nil && class == site.Conflict:
			inTheWay = err
		case err != nil && ctx.Err() != nil && inTheWay != nil:
			return fmt.Errorf("%w (until the deadline)", inTheWay)
		case err != nil:
			return err
		}
		if err == nil {
			_, err := e.read(ctx, s, kind, id)
			if err != nil && site.ClassOf(err) == site.NotFound {
				return nil
			}
			if err != nil {
				return err
			}
		}
		if waited := pause(ctx, wait); waited != nil {
			if inTheWay != nil {
				return fmt.Errorf("%w (until the deadline)", inTheWay)
			}
			return waited
		}
		wait = min(wait*2, e.Patience.Most)
	}
}

// sweep looks for whatever of the deployment is left at a site, removes it, and looks that nothing is.
func (e *Engine) sweep(ctx context.Context, s *plan.Step) error {
	for round := 0; ; round++ {
		left := 0
		for _, kind := range site.Kinds {
			all, err := e.look(ctx, s, kind)
			if err != nil {
				return err
			}
			for _, f := range bearing(all, e.markAll()) {
				left++
				text := fmt.Sprintf("left over and removed: %s %s (%s)", kind, f.ID, f.Name)
				if err := e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: text}); err != nil {
					return err
				}
				if err := e.erase(ctx, s, kind, f.ID); err != nil {
					return err
				}
			}
		}
		if left == 0 {
			return e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: "nothing of the deployment is left at " + s.Site})
		}
		if err := pause(ctx, e.Patience.Wait); err != nil {
			return err
		}
	}
}

// power switches an instance off or on. One that is so already is left alone; one that is on its way elsewhere is asked
// again when it has got there.
func (e *Engine) power(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	want := site.Stopped
	if s.Op == op.Boot {
		want = site.Active
	}
	id, err := e.standing(s, r)
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
		if got, err = e.read(ctx, s, site.Instance, id); err != nil {
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
		got, err = e.Sites[s.Site].Act(ctx, site.Instance, id, action)
		return err
	})
	if err != nil && site.ClassOf(err) == site.Conflict { // it may be so already, or on its way
		return e.read(ctx, s, site.Instance, id)
	}
	return got, err
}

// meet learns how an instance that was switched on is reached: a site may tell its key only when it is there.
func (e *Engine) meet(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	for i := range e.Plan.Resources {
		f := &e.Plan.Resources[i]
		id, known := e.Attribute(f.ID, "site.id")
		if f.Kind != plan.Interface || f.Spec.Instance != r.ID || !known || id == "" {
			continue
		}
		got, err := e.read(ctx, s, site.Interface, id)
		if err != nil {
			return err
		}
		if err := e.record(run.Event{Kind: run.Learned, Resource: f.ID, Attributes: got.Attributes}); err != nil {
			return err
		}
	}
	return nil
}

// alter changes in place what stands.
func (e *Engine) alter(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	id, err := e.standing(s, r)
	if err != nil {
		return err
	}
	sp := r.Spec
	req := site.Request{Kind: kindOf(s, r), Name: r.ID, Size: sp.Size, Cores: sp.Cores, MemoryGiB: sp.MemoryGiB, DiskGiB: sp.DiskGiB}
	var got site.Resource
	err = e.call(ctx, s, func() (err error) {
		got, err = e.Sites[s.Site].Change(ctx, req.Kind, id, req)
		return err
	})
	if err != nil {
		return err
	}
	return e.record(e.siteSays(r, got))
}

// standing is the site's id of a resource that stands.
func (e *Engine) standing(s *plan.Step, r *plan.Resource) (string, error) {
	id, ok := e.Attribute(r.ID, siteID(s))
	if !ok || id == "" {
		return "", fmt.Errorf("the site's id of %s is not known", r.ID)
	}
	return id, nil
}
