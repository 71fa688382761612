package app

import (
	"context"
	"encoding/json"
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
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// settledBut checks that no run of a deployment goes on, and that no other move of it is open: until that is committed or
// gone back from, what stands is not what is wanted.
func (a *App) settledBut(ctx context.Context, deployment, move int64) error {
	if err := a.quiet(ctx, deployment); err != nil {
		return err
	}
	all, err := a.store.Moves(ctx)
	if err != nil {
		return err
	}
	for _, x := range all {
		if x.Deployment != deployment || x.ID == move {
			continue
		}
		m, err := a.readMove(ctx, x)
		if err != nil {
			return err
		}
		if m.Open() {
			return fault.Conflictf("move %d of this deployment, %s, is not over: andamio move commit %d or andamio move back %d ends it", m.ID, m.Name, m.ID, m.ID)
		}
	}
	return nil
}

// noMove checks that a run belongs to no move: one is gone back from, and moved again once it is over.
func (a *App) noMove(ctx context.Context, r store.Run) error {
	all, err := a.store.Moves(ctx)
	if err != nil {
		return err
	}
	for _, x := range all {
		if !slices.ContainsFunc(x.Runs, func(y store.MoveRun) bool { return y.Run == r.ID }) {
			continue
		}
		m, err := a.readMove(ctx, x)
		if err != nil {
			return err
		}
		if m.Open() {
			return fault.Conflictf("run %d belongs to move %d: andamio move back %d goes back from it", r.ID, m.ID, m.ID)
		}
		return fault.Conflictf("run %d ended move %d: what was left behind is gone. Move it again, as any other", r.ID, m.ID)
	}
	return nil
}

// StartMove begins a wave that was drafted: the move is kept, and the plan is run. The secrets that travel nowhere are
// given anew.
func (a *App) StartMove(ctx context.Context, d *MoveDraft, secrets map[string]string) (move, runID int64, err error) {
	err = a.do(ctx, guard.StartMove, d.Move.Name, func() (err error) {
		move, runID, err = a.startMove(ctx, d, secrets)
		return err
	})
	return move, runID, err
}

func (a *App) startMove(ctx context.Context, d *MoveDraft, secrets map[string]string) (move, runID int64, err error) {
	values, err := moveSecrets(d.Secrets, secrets)
	if err != nil {
		return 0, 0, err
	}
	if d.Move.States[d.Wave] != WavePlanned && d.Move.States[d.Wave] != WaveBack {
		return 0, 0, fault.Conflictf("wave %d of move %d is %s", d.Wave+1, d.Move.ID, d.Move.States[d.Wave])
	}
	if len(values) > 0 {
		if err := a.workspace.SetSecrets(values); err != nil {
			return 0, 0, err
		}
	}
	body, err := json.Marshal(d.Move)
	if err != nil {
		return 0, 0, err
	}
	if d.Move.ID != 0 {
		err = a.store.KeepMove(ctx, d.Move.ID, body)
	} else if d.Move.ID, err = a.store.CreateMove(ctx, d.Move.Deployment, a.actor.Name, body, time.Now()); err == nil {
		d.Order.Move = d.Move.ID
	}
	if err != nil {
		return 0, 0, err
	}
	runID, err = a.beginFor(ctx, d.Move.ID, d.Wave, store.MoveThere, d.Order)
	return d.Move.ID, runID, err
}

// beginFor begins a run that does something for a move.
func (a *App) beginFor(ctx context.Context, move int64, wave int, kind string, o Order) (int64, error) {
	id, err := a.NewRun(ctx, o)
	if err != nil {
		return 0, err
	}
	if err := a.store.AddMoveRun(ctx, move, store.MoveRun{Wave: wave, Kind: kind, Run: id}); err != nil {
		return 0, errors.Join(err, a.store.Forget(ctx, id))
	}
	return id, a.spawn(id)
}

// DraftWave works out a wave of a move that is kept already.
func (a *App) DraftWave(ctx context.Context, id int64, wave int) (*MoveDraft, error) {
	m, err := a.Move(ctx, id)
	if err != nil {
		return nil, err
	}
	if wave < 0 || wave >= len(m.Waves) {
		return nil, fault.NotFoundf("move %d has %d waves", id, len(m.Waves))
	}
	return a.draftWave(ctx, m, wave)
}

// Steer says something to all copying of a wave: [run.CutOver], [run.Pause], [run.GoOn] or [run.LimitTo] with a number.
func (a *App) Steer(ctx context.Context, id int64, verb string) error {
	return a.do(ctx, guard.SteerMove, theMove(id), func() error { return a.steer(ctx, id, verb) }, saying("%s", verb))
}

func (a *App) steer(ctx context.Context, id int64, verb string) error {
	m, err := a.Move(ctx, id)
	if err != nil {
		return err
	}
	wave := m.Current()
	if m.States[wave] != WaveMoving {
		return fault.Conflictf("move %d is %s: there is nothing to steer", id, m.States[wave])
	}
	runID, _ := m.Run(wave)
	s, err := a.Replay(ctx, runID)
	if err != nil {
		return err
	}
	n := 0
	for i := range s.Steps {
		st := &s.Steps[i]
		open := st.Status != run.Standing && st.Status != run.Passed
		if st.Copying == nil || !open || verb == run.CutOver && st.Op != op.Follow {
			continue
		}
		if err := a.store.Decide(ctx, runID, store.Decision{Step: st.ID, Verb: verb}); err != nil {
			return err
		}
		n++
	}
	if n == 0 {
		return fault.Conflictf("nothing of move %d is being copied any more", id)
	}
	return nil
}

// CutOver has a wave cut over as soon as what is left is little enough.
func (a *App) CutOver(ctx context.Context, id int64) error { return a.Steer(ctx, id, run.CutOver) }

// DraftBack works out how to go back from a wave that is not committed. A run that moves it is stopped by [App.GoBack].
func (a *App) DraftBack(ctx context.Context, id int64, wave int) (Order, error) {
	m, err := a.Move(ctx, id)
	if err != nil {
		return Order{}, err
	}
	if err := m.mayEnd(wave); err != nil {
		return Order{}, err
	}
	for later := wave + 1; later < len(m.States); later++ {
		if s := m.States[later]; s == WaveMoved || s == WaveMoving || s == WaveBroken {
			return Order{}, fault.Conflictf("wave %d moved after wave %d: go back from that first", later+1, wave+1)
		}
	}
	d, err := a.Deployment(ctx, m.Deployment)
	if err != nil {
		return Order{}, err
	}
	there := m.There(wave)
	at := slices.IndexFunc(d.Runs, func(r store.Run) bool { return r.ID == there })
	if at < 0 {
		return Order{}, fault.Conflictf("wave %d of move %d was not begun", wave+1, id)
	}
	before, err := a.wanted(ctx, d.Runs[:at])
	if err != nil || before == nil {
		return Order{}, errors.Join(err, fmt.Errorf("what was wanted before move %d is not known", id))
	}
	p, err := a.store.Plan(ctx, d.Runs[at].Plan)
	if err != nil {
		return Order{}, err
	}
	before = withoutGone(before, d.Stand)
	off := slices.DeleteFunc(offIn(d.Stand), func(id string) bool { return slices.Contains(m.Waves[wave].Instances, id) })
	moving := change.Moving{Instances: m.Waves[wave].Instances, Mode: m.Request.Mode, Off: off, Copying: plan.Copying{Grant: true, Compress: m.Request.Compress, Consolidate: true}}
	back, err := change.Back(d.Stand, before, p, moving, "go back: "+m.Name)
	if err != nil {
		return Order{}, fault.Default(fault.Refused, err)
	}
	if err := a.Timed(ctx, back); err != nil {
		return Order{}, err
	}
	return Order{Plan: back, Deployment: d.ID, Wanted: before, Template: d.Template, Move: id}, nil
}

// withoutGone is a design without what other moves had left behind and that was committed meanwhile.
func withoutGone(p *plan.Plan, stand change.Standing) *plan.Plan {
	gone := map[string]string{}
	for i := range p.Resources {
		r := &p.Resources[i]
		original, isKept := keptOf(r)
		if isKept && stand.Plan.Resource(r.ID) == nil {
			gone[original] = r.ID
		}
	}
	return migrate.WithoutKept(p, gone)
}

// keptOf is what a resource is the left-behind of.
func keptOf(r *plan.Resource) (string, bool) {
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

// stopWithin bounds for how long a run that moves is waited for to stop.
const stopWithin = 20 * time.Second

// GoBack goes back from a wave that is not committed: a run that moves it is stopped, and then what was kept serves
// again.
func (a *App) GoBack(ctx context.Context, id int64, wave int) (out int64, err error) {
	err = a.do(ctx, guard.EndMove, theMove(id), func() (err error) {
		out, err = a.goBack(ctx, id, wave)
		return err
	}, saying("go back from wave %d", wave+1))
	return out, err
}

func (a *App) goBack(ctx context.Context, id int64, wave int) (int64, error) {
	m, err := a.Move(ctx, id)
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
		return last, a.Resume(ctx, last)
	}
	if err := a.stopRun(ctx, last); err != nil {
		return 0, err
	}
	if begun, err := a.begun(ctx, last); err != nil || !begun {
		return last, errors.Join(err, a.neverBegan(ctx, last))
	}
	o, err := a.DraftBack(ctx, id, wave)
	if err != nil {
		return 0, err
	}
	return a.beginFor(ctx, id, wave, store.MoveBack, o)
}

// begun reports that anything of a run is in its journal.
func (a *App) begun(ctx context.Context, id int64) (bool, error) {
	s, err := a.Replay(ctx, id)
	return err == nil && !s.Started.IsZero(), err
}

// neverBegan ends a run that nobody worked on: there is nothing to go back from.
func (a *App) neverBegan(ctx context.Context, id int64) error {
	r, err := a.store.Run(ctx, id)
	if err != nil {
		return err
	}
	return errors.Join(a.store.Finish(ctx, id, r.Epoch, run.Stopped), a.store.Void(ctx, id))
}

// stopRun stops a run and waits until its worker has.
func (a *App) stopRun(ctx context.Context, id int64) error {
	for end := time.Now().Add(stopWithin); time.Now().Before(end); {
		r, err := a.store.Run(ctx, id)
		if err != nil {
			return err
		}
		if r.State != run.UnderWay && r.State != run.Planned || Abandoned(r, time.Now()) || !Alive(r) && r.State == run.UnderWay {
			return nil
		}
		if err := a.Cancel(ctx, id); err != nil {
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
func (a *App) DraftCommit(ctx context.Context, id int64, wave int) (Order, error) {
	m, err := a.Move(ctx, id)
	if err != nil {
		return Order{}, err
	}
	if wave < 0 || wave >= len(m.States) || m.States[wave] != WaveMoved {
		state := WavePlanned
		if wave >= 0 && wave < len(m.States) {
			state = m.States[wave]
		}
		return Order{}, fault.Conflictf("move %d is %s: only what has been moved is committed", id, state)
	}
	d, wanted, err := a.designOf(ctx, m.Deployment)
	if err != nil {
		return Order{}, err
	}
	r, err := a.store.Run(ctx, m.There(wave))
	if err != nil {
		return Order{}, err
	}
	p, err := a.store.Plan(ctx, r.Plan)
	if err != nil {
		return Order{}, err
	}
	to := migrate.WithoutKept(wanted, p.Renames)
	c, err := change.Compile(d.Stand, atRest(to, d.Stand), "commit: "+m.Name)
	if err != nil {
		return Order{}, fault.Default(fault.Refused, err)
	}
	if err := change.Consolidated(c, p); err != nil {
		return Order{}, fault.Default(fault.Refused, err)
	}
	if err := a.Timed(ctx, c); err != nil {
		return Order{}, err
	}
	return Order{Plan: c, Deployment: d.ID, Wanted: to, Template: d.Template, Move: id}, nil
}

// Commit takes away what was kept of a wave; there is no going back from then on.
func (a *App) Commit(ctx context.Context, id int64, wave int) (out int64, err error) {
	err = a.do(ctx, guard.EndMove, theMove(id), func() (err error) {
		out, err = a.commit(ctx, id, wave)
		return err
	}, saying("commit wave %d", wave+1))
	return out, err
}

func (a *App) commit(ctx context.Context, id int64, wave int) (int64, error) {
	m, err := a.Move(ctx, id)
	if err != nil {
		return 0, err
	}
	if last, kind := m.Run(wave); kind == store.MoveCommit && m.States[wave] == WaveBroken {
		return last, a.Resume(ctx, last)
	}
	o, err := a.DraftCommit(ctx, id, wave)
	if err != nil {
		return 0, err
	}
	return a.beginFor(ctx, id, wave, store.MoveCommit, o)
}
