package crash

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/usage"
	"andamio/internal/names"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
)

// holds looks that everything is as it is said to be.
func (l *life) holds(ctx context.Context) error {
	all, err := l.a.Deployments(ctx)
	if err != nil {
		return err
	}
	var standing []*deployments.Deployment
	for i := range all {
		if !all[i].Stand.Empty() {
			standing = append(standing, &all[i])
		}
	}
	if err := l.noted(ctx); err != nil {
		return err
	}
	if err := l.declared(standing); err != nil {
		return err
	}
	for _, d := range standing {
		if err := l.serves(ctx, d); err != nil {
			return fmt.Errorf("%s: %w", d.Name, err)
		}
	}
	if err := l.quotasHold(ctx); err != nil {
		return err
	}
	if err := l.roomsHold(ctx, standing); err != nil {
		return err
	}
	if err := l.named(ctx, standing); err != nil {
		return err
	}
	inv, err := l.survey(ctx)
	if err != nil {
		return err
	}
	for _, f := range inv.Findings {
		return fmt.Errorf("nobody did anything by hand, and %s %s is found %s: %v\nD %+v\nR %+v\nO %+v", f.Class, f.Name, f.Type, f.Why, f.Declared, f.Recorded, f.Observed)
	}
	return nil
}

// roomsHold looks that at every site what is used, paused, held and free is all there is: paused what is switched off, held nothing while no run goes on, and used what
// was used before anything was built, and what is on.
func (l *life) roomsHold(ctx context.Context, standing []*deployments.Deployment) error {
	e, err := l.a.Estate(ctx)
	if err != nil {
		return err
	}
	claims, err := l.a.Claims(ctx)
	if err != nil {
		return err
	}
	loads := usage.Of(e, nil, nil)
	usage.Claimed(loads, claims)
	on, off := map[string]float64{}, map[string]float64{}
	for _, d := range standing {
		for i := range d.Stand.Plan.Resources {
			if r := &d.Stand.Plan.Resources[i]; r.Kind == kinds.Instance && r.Off {
				off[r.Site] += float64(r.AsInstance().Cores)
			} else if r.Kind == kinds.Instance {
				on[r.Site] += float64(r.AsInstance().Cores)
			}
		}
	}
	before := map[string]float64{}
	for _, s := range usage.Of(l.cfg.Estate, nil, nil) {
		before[s.Site.Name] = s.Cores.Used
	}
	for _, s := range loads {
		c, name := s.Cores, s.Site.Name
		if c.Used+c.Paused+c.Held+c.Free() != c.Total || c.Held != 0 || c.Paused != off[name] || c.Used != before[name]+on[name] {
			return fmt.Errorf("of %.0f cores of %s %.0f are used, %.0f paused, %.0f held and %.0f free; %.0f were used before, %.0f are of what is on, %.0f of what is off",
				c.Total, name, c.Used, c.Paused, c.Held, c.Free(), before[name], on[name], off[name])
		}
	}
	return nil
}

// declared compares what the sites hold with what the deployments say stands.
func (l *life) declared(standing []*deployments.Deployment) error {
	plans := map[string]*plan.Plan{}
	for _, d := range standing {
		plans[d.Name] = d.Stand.Plan
	}
	return heldAsDeclared(l.box, plans)
}

// heldAsDeclared compares what the sites hold with what stands of some deployments, by their names: each thing that is declared is there, and nothing else.
func heldAsDeclared(box *sandbox.Sandbox, plans map[string]*plan.Plan) error {
	want := map[string]string{}
	for name, p := range plans {
		for i := range p.Steps {
			s := &p.Steps[i]
			key := ""
			switch s.Op {
			case op.Create, op.Plug:
				key = p.Known[s.Resource]["site.id"]
			case op.Attach:
				key = p.Known[s.Resource]["site.id."+s.Volume]
			}
			if key != "" && s.Script == nil {
				want[s.Site+" "+key] = name + " " + s.ID
			}
		}
	}
	var wrong []error
	for _, h := range box.Holds() {
		key := h.Site + " " + h.ID
		if want[key] == "" {
			wrong = append(wrong, fmt.Errorf("%s holds %s %s (%s), which nobody declares", h.Site, h.Term, h.ID, h.Title))
		}
		delete(want, key)
	}
	for key, what := range want {
		wrong = append(wrong, fmt.Errorf("%s is declared as %s, and is not there", what, key))
	}
	return errors.Join(wrong...)
}

// serves asks every endpoint of a deployment that is to answer, and whether the store still has its word.
func (l *life) serves(ctx context.Context, d *deployments.Deployment) error {
	p := d.Stand.Plan
	for i := range p.Resources {
		r := &p.Resources[i]
		if r.Kind != kinds.Software {
			continue
		}
		on := p.Resource(r.On)
		off := l.off[d.ID][r.On]
		if on.Off != off {
			return fmt.Errorf("%s is off: %v, and was to be: %v", on.ID, on.Off, off)
		}
		if r.Node == "door.balancer" {
			if err := l.opens(ctx, p, r.On, off, l.off[d.ID]); err != nil {
				return err
			}
			continue
		}
		said, err := l.page(ctx, p, r.On, "8085")
		switch {
		case off && err == nil:
			return fmt.Errorf("%s is off and answers %q", r.ID, said)
		case !off && err != nil:
			return fmt.Errorf("%s does not answer: %w", r.ID, err)
		case !off && r.ID == "store-1" && said != l.word[d.ID]:
			return fmt.Errorf("the store had %q and has %q", l.word[d.ID], said)
		}
	}
	return nil
}

// page is what an instance serves.
func (l *life) page(ctx context.Context, p *plan.Plan, instance, port string) (string, error) {
	for i := range p.Resources {
		f := &p.Resources[i]
		if f.Kind != kinds.Interface || f.AsInterface().Instance != instance {
			continue
		}
		known := p.Known[f.ID]
		ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+net.JoinHostPort(known["address"], known["port."+port])+"/", nil)
		if err != nil {
			return "", err
		}
		web := http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
		resp, err := web.Do(req)
		if err != nil {
			return "", err
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(io.LimitReader(resp.Body, 1<<10))
		if resp.StatusCode != http.StatusOK {
			return resp.Status, err
		}
		return strings.TrimSpace(string(body)), err
	}
	return "", errors.New("it has no interface")
}

// opens looks that at the door every front that is on is met, and nobody else; that a front is on or off is known there a moment later.
func (l *life) opens(ctx context.Context, p *plan.Plan, door string, shut bool, off map[string]bool) error {
	want := map[string]bool{}
	for i := range p.Resources {
		if r := &p.Resources[i]; r.Node == "front" && r.Kind == kinds.Software && !off[r.On] {
			said, err := l.page(ctx, p, r.On, "8085")
			if err != nil {
				return fmt.Errorf("%s does not answer: %w", r.ID, err)
			}
			want[said] = true
		}
	}
	switch {
	case shut:
		want = map[string]bool{"nobody": true}
	case len(want) == 0:
		want = map[string]bool{"503 Service Unavailable": true}
	}
	var seen map[string]bool
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end) && ctx.Err() == nil; {
		seen = map[string]bool{}
		for range 8 {
			said, err := l.page(ctx, p, door, "8086")
			if err != nil {
				said = "nobody"
			}
			seen[said] = true
		}
		if maps.Equal(seen, want) {
			return nil
		}
	}
	return fmt.Errorf("at %s %v are met, and are to be %v", door, seen, want)
}

// named looks that every name stands for where its thing is, and for nothing else.
func (l *life) named(ctx context.Context, standing []*deployments.Deployment) error {
	z, err := l.a.Zone()
	if err != nil {
		return err
	}
	var seen []string
	for _, d := range standing {
		p := d.Stand.Plan
		for i := range p.Steps {
			s := &p.Steps[i]
			if s.Op != op.Name {
				continue
			}
			if slices.Contains(seen, s.Naming.Name) {
				return fmt.Errorf("two things have the name %s", s.Naming.Name)
			}
			seen = append(seen, s.Naming.Name)
			address, _, _, err := z.Ask(ctx, z.Server, s.Naming.Name, "")
			if want := p.Known[s.Naming.Interface]["address"]; err != nil || address != want {
				return fmt.Errorf("%s stands for %q, and %s is at %q (%v)", s.Naming.Name, address, s.Naming.Interface, want, err)
			}
		}
	}
	for _, name := range []string{"store-1", "store-host-1", "front-host-1", "front-host-2", "front-host-3"} {
		if _, _, _, err := z.Ask(ctx, z.Server, name, ""); err == nil && !slices.Contains(seen, name) {
			return fmt.Errorf("%s is named, and nothing of that name stands", name)
		} else if err != nil && !errors.Is(err, names.ErrUnanswered) {
			return err
		}
	}
	return nil
}

// noted holds that the trail of what was done is whole, and that it says of every run who had it made, and of which plan.
func (l *life) noted(ctx context.Context) error {
	v, err := l.a.VerifyTrail(ctx, "")
	if err != nil {
		return err
	}
	if len(v.Wrong) > 0 {
		return fmt.Errorf("the trail: %v", v.Wrong)
	}
	made := map[int64]bool{}
	err = l.a.EachOfTrail(ctx, func(e *app.Entry) error {
		made[e.Run] = made[e.Run] || e.Run != 0 && e.Plan != "" && e.Name != ""
		return nil
	})
	if err != nil {
		return err
	}
	runs, err := l.a.Runs(ctx)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if !made[r.ID] {
			return fmt.Errorf("nobody is noted to have made run %d (%s)", r.ID, r.Purpose)
		}
	}
	return nil
}
