package engine

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// unsound says that what a site built is no good: it is in error, or it is not there although the site said so.
type unsound struct {
	why string
	// gone things need not be removed.
	gone bool
}

func (u unsound) Error() string { return u.why }

// maxDiscards bounds how often what a site built is thrown away and asked for again.
const maxDiscards = 3

// create has a site build a resource, or runs the script that puts software there.
func (e *Engine) create(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	if s.Script != nil {
		return e.script(ctx, s, r)
	}
	return e.build(ctx, s, r)
}

// build has a site build a resource and waits until it says active. What turns out to be no good is removed, so that
// nothing is left over, and asked for again.
func (e *Engine) build(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	if s.Finds != "" {
		return e.find(ctx, s, r)
	}
	for round := 1; ; round++ {
		got, err := e.obtain(ctx, s, r)
		if err != nil {
			return err
		}
		if r.Kind == kinds.Object {
			got, err = e.lift(ctx, s, got)
		}
		if err == nil {
			err = e.waitActive(ctx, s, r, got)
		}
		var bad unsound
		if !errors.As(err, &bad) {
			return err
		}
		if err := e.discard(ctx, s, got, bad); err != nil {
			return err
		}
		if round == maxDiscards {
			return err
		}
		if err := pause(ctx, e.Patience.Wait); err != nil {
			return err
		}
	}
}

// obtain is the thing that a step asks for: the one it asked for before the run broke off, or another that bears its
// mark, or a new one.
func (e *Engine) obtain(ctx context.Context, s *plan.Step, r *plan.Resource) (site.Resource, error) {
	req, err := e.request(s, r)
	if err != nil {
		return site.Resource{}, err
	}
	if id, _, _ := e.known(s); id != "" {
		got, err := e.read(ctx, s, req.Kind, id)
		if site.ClassOf(err) != site.NotFound || err == nil {
			return got, err
		}
		if err := e.record(run.Event{Kind: run.Discarded, Step: s.ID, Resource: r.ID, Text: "the site no longer has " + id}); err != nil {
			return got, err
		}
		req, _ = e.request(s, r)
	}
	if e.resumed {
		all, err := e.atFirst(ctx, s, req.Kind)
		if err != nil {
			return site.Resource{}, err
		}
		if found := bearing(all, req.Mark); len(found) > 0 {
			return e.adopt(ctx, s, r, found)
		}
	}
	return e.ask(ctx, s, r, req)
}

// ask asks for a thing. Whatever error comes back, the site may have built it: it is looked for by its mark before
// anything else is done.
func (e *Engine) ask(ctx context.Context, s *plan.Step, r *plan.Resource, req site.Request) (site.Resource, error) {
	var got site.Resource
	var found []site.Resource
	err := e.call(ctx, s, func() error {
		out, err := e.Sites[s.Site].Create(ctx, req)
		if err == nil {
			got, got.Kind = out, req.Kind
			return nil
		}
		if class := site.ClassOf(err); class == site.RateLimited || ctx.Err() != nil {
			return err
		}
		if all, lookErr := e.Sites[s.Site].List(ctx, req.Kind); lookErr == nil {
			if found = bearing(all, req.Mark); len(found) > 0 {
				return nil
			}
		}
		return err
	})
	switch {
	case err != nil:
		return got, err
	case len(found) > 0:
		return e.adopt(ctx, s, r, found)
	}
	return got, e.asked(s, r, got)
}

// adopt takes the first of what bears a step's mark, and removes the others: a site that does not keep to idempotency
// keys may have built it twice.
func (e *Engine) adopt(ctx context.Context, s *plan.Step, r *plan.Resource, found []site.Resource) (site.Resource, error) {
	keep := found[0]
	for _, f := range found {
		if f.State == site.Active {
			keep = f
			break
		}
	}
	for _, f := range found {
		if f.ID == keep.ID {
			continue
		}
		if err := e.erase(ctx, s, f.Kind, f.ID); err != nil {
			return keep, err
		}
	}
	if err := e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: r.ID, Text: "found at the site by its mark: " + keep.ID}); err != nil {
		return keep, err
	}
	return keep, e.asked(s, r, keep)
}

// asked journals the site's id of a thing and what the site says of it.
func (e *Engine) asked(s *plan.Step, r *plan.Resource, got site.Resource) error {
	return e.record(run.Event{Kind: run.StepAsked, Step: s.ID, Resource: r.ID, Attributes: map[string]string{siteID(s): got.ID}},
		e.siteSays(r, got))
}

// discard removes what is no good, and journals that the step has nothing.
func (e *Engine) discard(ctx context.Context, s *plan.Step, got site.Resource, bad unsound) error {
	if !bad.gone {
		if err := e.erase(ctx, s, got.Kind, got.ID); err != nil {
			return fmt.Errorf("%s, and it could not be removed: %w", bad.why, err)
		}
	}
	return e.record(run.Event{Kind: run.Discarded, Step: s.ID, Resource: s.Resource, Text: bad.why})
}

func (e *Engine) siteSays(r *plan.Resource, got site.Resource) run.Event {
	return run.Event{Kind: run.SiteSays, Resource: r.ID, Text: got.Word, Good: got.State == site.Active}
}

// read asks how a thing is.
func (e *Engine) read(ctx context.Context, s *plan.Step, kind kinds.Kind, id string) (site.Resource, error) {
	var got site.Resource
	err := e.call(ctx, s, func() error {
		now, err := e.Sites[s.Site].Read(ctx, kind, id)
		if err == nil { // what a failed call returns must not take the place of what is known
			got = now
		}
		return err
	})
	return got, err
}

// built is what is learned of a thing that was built: what another was called that was found once is not its name.
func (e *Engine) built(s *plan.Step, r *plan.Resource, known map[string]string) map[string]string {
	if was, found := e.Attribute(r.ID, plan.AttrFound); !found || was == "" || s.Op == op.Attach {
		return known
	}
	out := maps.Clone(known)
	out[plan.AttrFound] = ""
	return out
}

// maxMissing is how often a thing may not be found that the site has said it made, before it counts as not there: some
// sites show what they made only after a while.
const maxMissing = 3

// waitActive waits until a thing is active: for the site's notice where it sends some, else asking about when it is
// expected and then now and again.
func (e *Engine) waitActive(ctx context.Context, s *plan.Step, r *plan.Resource, got site.Resource) error {
	kind, id := got.Kind, got.ID
	woken, stop := e.Wakes.wait(s.Site, id)
	defer stop()
	expected := time.Duration(s.Seconds * float64(time.Second))
	wait := max(expected*105/100, 20*time.Millisecond)
	if e.Wakes.pushed(s.Site) {
		wait = max(2*expected, time.Second)
	} else {
		wait /= 2 // it may be early; the second look is when it is expected
	}
	again := max(wait, 40*time.Millisecond)
	later := max(expected/10, 40*time.Millisecond)
	for missing := 0; ; {
		switch got.State {
		case site.Active, atRest(r):
			return e.record(run.Event{Kind: run.Learned, Resource: r.ID, Attributes: e.built(s, r, unmapped(r, learned(s, got)))})
		case site.Failed:
			return unsound{why: fmt.Sprintf("%s says it failed: %s", s.Site, got.Word)}
		}
		if err := e.sleep(ctx, woken, wait); err != nil {
			return err
		}
		wait, again, later = again, later, min(later*3/2, 5*time.Second)
		now, err := e.read(ctx, s, kind, id)
		if site.ClassOf(err) == site.NotFound && err != nil {
			if missing++; missing == maxMissing {
				return unsound{why: fmt.Sprintf("%s said that it made %s, and has no such thing", s.Site, id), gone: true}
			}
			continue
		}
		if err != nil {
			return err
		}
		got, missing = now, 0
		if err := e.record(e.siteSays(r, got)); err != nil {
			return err
		}
	}
}

// atRest is the state of an instance that is built and not switched on; of anything else it is the one that it is to
// have.
func atRest(r *plan.Resource) site.State {
	if r.Kind == kinds.Instance && r.AsInstance().Asleep {
		return site.Stopped
	}
	return site.Active
}

// sleep waits for a while or for a wake.
func (e *Engine) sleep(ctx context.Context, woken <-chan struct{}, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-woken:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// request is what a step asks of a site.
func (e *Engine) request(s *plan.Step, r *plan.Resource) (site.Request, error) {
	_, _, discards := e.known(s)
	req := site.Request{Name: r.ID, Mark: e.mark(s.ID), Key: fmt.Sprintf("%s/%s/%d", e.Run, s.ID, discards), Zone: r.Zone, Host: r.Host}
	var err error
	switch {
	case s.Op == op.Attach:
		req.Kind, req.Name, req.Location = kinds.Attachment, r.ID+" "+s.Volume, s.Location
		req.Source, req.Target, err = e.ends(r.ID, s.Volume)
	case r.Kind == kinds.Interface:
		sp := r.AsInterface()
		req.Kind, req.Ports, req.Address, req.MAC = kinds.Interface, sp.Ports, sp.Address, sp.MAC
		req.Source, req.Target, err = e.ends(sp.Instance, sp.Network)
	case r.Kind == kinds.Network:
		sp := r.AsNetwork()
		req.Kind, req.Name, req.CIDR, req.VLAN = kinds.Network, sp.Label, sp.CIDR, sp.VLAN
	case r.Kind == kinds.Volume:
		sp := r.AsVolume()
		req.Kind, req.DiskGiB, req.Class = kinds.Volume, sp.DiskGiB, sp.Class
	case r.Kind == kinds.Instance:
		sp := r.AsInstance()
		req.Kind, req.Hostname, req.Size, req.Image = kinds.Instance, sp.Hostname, sp.Size, sp.Image
		req.Cores, req.MemoryGiB, req.DiskGiB = sp.Cores, sp.MemoryGiB, sp.DiskGiB
		req.PublicKey, req.Asleep, req.Class = publicKey(e.Key), sp.Asleep, sp.Class
		if sp.Appliance != "" { // nobody logs in to it
			req.Appliance, req.Size, req.PublicKey = sp.Appliance, "", ""
		}
	case r.Kind == kinds.Snapshot:
		req.Kind, req.Memory = kinds.Snapshot, r.AsSnapshot().Memory
		known := false
		if req.Source, known = e.Attribute(r.AsSnapshot().Of, "site.id"); !known {
			err = fmt.Errorf("the site's id of %s is not known", r.AsSnapshot().Of)
		}
	case r.Kind == kinds.Object:
		req.Kind, req.Bytes, req.SHA256 = kinds.Object, s.Filling.Bytes, s.Filling.SHA256
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

// siteID is the attribute under which a resource's id at its site is known; an attachment belongs to its instance and
// is told apart by its volume.
func siteID(s *plan.Step) string {
	if s.Op == op.Attach || s.Op == op.Detach {
		return "site.id." + s.Volume
	}
	return "site.id"
}
