package moves

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/store"
)

// DraftBack works out how to go back from a wave that is not committed. A run that moves it is stopped by [Service.GoBack].
func (svc *Service) DraftBack(ctx context.Context, id int64, wave int) (deployments.Order, error) {
	if err := svc.desk.See(ctx, acting.Move(id)); err != nil {
		return deployments.Order{}, err
	}
	m, err := svc.inside().Move(ctx, id)
	if err != nil {
		return deployments.Order{}, err
	}
	if err := m.mayEnd(wave); err != nil {
		return deployments.Order{}, err
	}
	for later := wave + 1; later < len(m.States); later++ {
		if s := m.States[later]; s == WaveMoved || s == WaveMoving || s == WaveBroken {
			return deployments.Order{}, fault.Conflictf("wave %d moved after wave %d: go back from that first", later+1, wave+1)
		}
	}
	d, err := svc.deployments.Deployment(ctx, m.Deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	there := m.There(wave)
	at := slices.IndexFunc(d.Runs, func(r store.Run) bool { return r.ID == there })
	if at < 0 {
		return deployments.Order{}, fault.Conflictf("wave %d of move %d was not begun", wave+1, id)
	}
	before, err := svc.deployments.Wanted(ctx, d.Runs[:at])
	if err != nil || before == nil {
		return deployments.Order{}, errors.Join(err, fmt.Errorf("what was wanted before move %d is not known", id))
	}
	p, err := svc.store.Plan(ctx, d.Runs[at].Plan)
	if err != nil {
		return deployments.Order{}, err
	}
	before = withoutGone(before, d.Stand)
	off := slices.DeleteFunc(deployments.OffIn(d.Stand), func(id string) bool { return slices.Contains(m.Waves[wave].Instances, id) })
	moving := change.Moving{Instances: m.Waves[wave].Instances, Mode: m.Request.Mode, Off: off, Copying: plan.Copying{Grant: true, Compress: m.Request.Compress, Consolidate: true}}
	back, err := change.Back(d.Stand, before, p, moving, "go back: "+m.Name)
	if err != nil {
		return deployments.Order{}, fault.Default(fault.Refused, err)
	}
	if err := svc.deployments.Timed(ctx, back); err != nil {
		return deployments.Order{}, err
	}
	return deployments.Order{Plan: back, Deployment: d.ID, Wanted: before, Template: d.Template, Move: id}, nil
}

// withoutGone is a design without what other moves had left behind and that was committed meanwhile.
func withoutGone(p *plan.Plan, stand change.Standing) *plan.Plan {
	gone := map[string]string{}
	for i := range p.Resources {
		r := &p.Resources[i]
		original, isKept := KeptOf(r)
		if isKept && stand.Plan.Resource(r.ID) == nil {
			gone[original] = r.ID
		}
	}
	return migrate.WithoutKept(p, gone)
}

// KeptOf is what a resource is the left-behind of.
func KeptOf(r *plan.Resource) (string, bool) {
	suffix := "@" + r.Site
	if r.Kind == kinds.Network || len(r.ID) <= len(suffix) || r.ID[len(r.ID)-len(suffix):] != suffix {
		return "", false
	}
	return r.ID[:len(r.ID)-len(suffix)], true
}

func (m *Move) mayEnd(wave int) error {
	if wave < 0 || wave >= len(m.States) {
		return fault.NotFoundf("move %d has %d waves", m.ID, len(m.Waves))
	}
	switch m.States[wave] {
	case WavePlanned, WaveBack:
		return fault.Conflictf("wave %d of move %d is where it was: there is nothing to go back from", wave+1, m.ID)
	case WaveDone:
		return fault.Conflictf("move %d is committed: what was kept is gone. Move it back as any other", m.ID)
	}
	return nil
}

// GoBack goes back from a wave that is not committed: a run that moves it is stopped, and then what was kept serves
// again.
func (svc *Service) GoBack(ctx context.Context, id int64, wave int) (out int64, err error) {
	err = svc.desk.Do(ctx, guard.EndMove, acting.Move(id), func() (err error) {
		out, err = svc.goBack(ctx, id, wave)
		return err
	}, acting.Saying("go back from wave %d", wave+1))
	return out, err
}

func (svc *Service) goBack(ctx context.Context, id int64, wave int) (int64, error) {
	m, err := svc.inside().Move(ctx, id)
	if err != nil {
		return 0, err
	}
	if err := m.mayEnd(wave); err != nil {
		return 0, err
	}
	last, kind := m.Run(wave)
	if m.States[wave] == WaveReturning || m.States[wave] == WaveLeaving {
		return 0, fault.Conflictf("wave %d of move %d is %s", wave+1, id, m.States[wave])
	}
	if kind == store.MoveBack { // it was broken off: it goes on
		return last, svc.runs.Resume(ctx, last)
	}
	if err := svc.stopRun(ctx, last); err != nil {
		return 0, err
	}
	if begun, err := svc.begun(ctx, last); err != nil || !begun {
		return last, errors.Join(err, svc.neverBegan(ctx, last))
	}
	o, err := svc.inside().DraftBack(ctx, id, wave)
	if err != nil {
		return 0, err
	}
	return svc.beginFor(ctx, id, wave, store.MoveBack, o)
}

// begun reports that anything of a run is in its journal.
func (svc *Service) begun(ctx context.Context, id int64) (bool, error) {
	s, err := svc.deployments.Replay(ctx, id)
	return err == nil && !s.Started.IsZero(), err
}

// neverBegan ends a run that nobody worked on: there is nothing to go back from.
func (svc *Service) neverBegan(ctx context.Context, id int64) error {
	r, err := svc.store.Run(ctx, id)
	if err != nil {
		return err
	}
	return errors.Join(svc.store.Finish(ctx, id, r.Epoch, run.Stopped), svc.store.Void(ctx, id))
}

// stopRun stops a run and waits until its worker has.
func (svc *Service) stopRun(ctx context.Context, id int64) error {
	for end := time.Now().Add(stopWithin); time.Now().Before(end); {
		r, err := svc.store.Run(ctx, id)
		if err != nil {
			return err
		}
		if r.State != run.UnderWay && r.State != run.Planned || runs.Abandoned(r, time.Now()) || !runs.Alive(r) && r.State == run.UnderWay {
			return nil
		}
		if err := svc.runs.Cancel(ctx, id); err != nil {
			return err
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return fault.Unavailablef("run %d does not stop; andamio watch %d shows why", id, id)
}

// DraftCommit works out what committing a wave takes away: all that was kept of it.
func (svc *Service) DraftCommit(ctx context.Context, id int64, wave int) (deployments.Order, error) {
	if err := svc.desk.See(ctx, acting.Move(id)); err != nil {
		return deployments.Order{}, err
	}
	m, err := svc.inside().Move(ctx, id)
	if err != nil {
		return deployments.Order{}, err
	}
	if wave < 0 || wave >= len(m.States) || m.States[wave] != WaveMoved {
		state := WavePlanned
		if wave >= 0 && wave < len(m.States) {
			state = m.States[wave]
		}
		return deployments.Order{}, fault.Conflictf("move %d is %s: only what has been moved is committed", id, state)
	}
	d, wanted, err := svc.deployments.DesignOf(ctx, m.Deployment)
	if err != nil {
		return deployments.Order{}, err
	}
	r, err := svc.store.Run(ctx, m.There(wave))
	if err != nil {
		return deployments.Order{}, err
	}
	p, err := svc.store.Plan(ctx, r.Plan)
	if err != nil {
		return deployments.Order{}, err
	}
	to := migrate.WithoutKept(wanted, p.Renames)
	c, err := change.Compile(d.Stand, deployments.AtRest(to, d.Stand), "commit: "+m.Name)
	if err != nil {
		return deployments.Order{}, fault.Default(fault.Refused, err)
	}
	if err := change.Consolidated(c, p); err != nil {
		return deployments.Order{}, fault.Default(fault.Refused, err)
	}
	if err := svc.deployments.Timed(ctx, c); err != nil {
		return deployments.Order{}, err
	}
	return deployments.Order{Plan: c, Deployment: d.ID, Wanted: to, Template: d.Template, Move: id}, nil
}

// Commit takes away what was kept of a wave; there is no going back from then on.
func (svc *Service) Commit(ctx context.Context, id int64, wave int) (out int64, err error) {
	err = svc.desk.Do(ctx, guard.EndMove, acting.Move(id), func() (err error) {
		out, err = svc.commit(ctx, id, wave)
		return err
	}, acting.Saying("commit wave %d", wave+1))
	return out, err
}

func (svc *Service) commit(ctx context.Context, id int64, wave int) (int64, error) {
	m, err := svc.inside().Move(ctx, id)
	if err != nil {
		return 0, err
	}
	if last, kind := m.Run(wave); kind == store.MoveCommit && m.States[wave] == WaveBroken {
		return last, svc.runs.Resume(ctx, last)
	}
	o, err := svc.inside().DraftCommit(ctx, id, wave)
	if err != nil {
		return 0, err
	}
	return svc.beginFor(ctx, id, wave, store.MoveCommit, o)
}
