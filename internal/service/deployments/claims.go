package deployments

import (
	"context"

	"andamio/internal/core/estate"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/core/usage"
	"andamio/internal/store"
)

// Claims are what all deployments have of sites' rooms that is not used: what is switched off sleeps, what runs are about to build is held. Those that whoever asks may
// not see have no name.
func (svc *Service) Claims(ctx context.Context) ([]usage.Claim, error) {
	if err := svc.desk.Read("what sleeps"); err != nil {
		return nil, err
	}
	all, err := svc.inside().Deployments(ctx)
	if err != nil {
		return nil, err
	}
	var out []usage.Claim
	for i := range all {
		d := &all[i]
		of := asleep(d.Stand.Plan)
		if last := d.Last(); !last.Void && (last.State == run.UnderWay || last.State == run.Planned) {
			held, err := svc.held(ctx, last)
			if err != nil {
				return nil, err
			}
			of = append(of, held...)
		}
		if len(of) == 0 {
			continue
		}
		seen := svc.desk.See(ctx, guard.Thing{Name: d.Name, Deployment: d.ID}) == nil
		for _, c := range of {
			if c.Deployment = d.ID; seen {
				c.Of = d.Name
			} else {
				c.Deployment, c.Thing = 0, ""
			}
			out = append(out, c)
		}
	}
	return out, nil
}

// asleep is what instances have that are switched off: a disk is used all the same.
func asleep(p *plan.Plan) []usage.Claim {
	var out []usage.Claim
	for i := range p.Resources {
		r := &p.Resources[i]
		if s := r.AsInstance(); r.Kind == kinds.Instance && r.Off {
			out = append(out, claim(r, estate.Capacity{Cores: s.Cores, MemoryGiB: s.MemoryGiB}))
		}
	}
	return out
}

// held is what a run is about to build, and has not yet.
func (svc *Service) held(ctx context.Context, r store.Run) ([]usage.Claim, error) {
	s, err := svc.inside().Replay(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	var out []usage.Claim
	for i := range s.Steps {
		st := &s.Steps[i]
		r := s.Plan.Resource(st.Resource)
		if st.Op != op.Create || r.Kind != kinds.Instance || st.Status != run.Planned && st.Status != run.Held {
			continue
		}
		spec := r.AsInstance()
		c := claim(r, estate.Capacity{Cores: spec.Cores, MemoryGiB: spec.MemoryGiB, DiskGiB: spec.DiskGiB})
		c.Held = true
		out = append(out, c)
	}
	return out, nil
}

func claim(r *plan.Resource, takes estate.Capacity) usage.Claim {
	return usage.Claim{Site: r.Site, Zone: r.Zone, Host: r.Host, Thing: r.ID, Takes: takes}
}
