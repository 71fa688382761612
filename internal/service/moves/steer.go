package moves

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/store"
)

// StartMove begins a wave that was drafted: the move is kept, and the plan is run. The secrets that travel nowhere are
// given anew.
func (svc *Service) StartMove(ctx context.Context, d *Draft, secrets map[string]string) (move, runID int64, err error) {
	err = svc.desk.Do(ctx, guard.StartMove, d.thing(), func() (err error) {
		move, runID, err = svc.startMove(ctx, d, secrets)
		return err
	})
	return move, runID, err
}

func (svc *Service) startMove(ctx context.Context, d *Draft, secrets map[string]string) (move, runID int64, err error) {
	if d.Move.Deployment == 0 {
		return 0, 0, fault.Conflictf("%s is nobody's yet: it is taken over first", strings.Join(d.Move.Request.What, ", "))
	}
	values, err := moveSecrets(d.Secrets, secrets)
	if err != nil {
		return 0, 0, err
	}
	if d.Move.States[d.Wave] != WavePlanned && d.Move.States[d.Wave] != WaveBack {
		return 0, 0, fault.Conflictf("wave %d of move %d is %s", d.Wave+1, d.Move.ID, d.Move.States[d.Wave])
	}
	if len(values) > 0 {
		if err := svc.workspace.SetSecrets(values); err != nil {
			return 0, 0, err
		}
	}
	body, err := json.Marshal(d.Move)
	if err != nil {
		return 0, 0, err
	}
	if d.Move.ID != 0 {
		err = svc.store.KeepMove(ctx, d.Move.ID, body)
	} else if d.Move.ID, err = svc.store.CreateMove(ctx, d.Move.Deployment, svc.desk.Actor.Name, body, time.Now()); err == nil {
		d.Order.Move = d.Move.ID
	}
	if err != nil {
		return 0, 0, err
	}
	if err := svc.fenced(ctx, d, time.Now()); err != nil {
		return 0, 0, err
	}
	runID, err = svc.beginFor(ctx, d.Move.ID, d.Wave, store.MoveThere, d.Order)
	return d.Move.ID, runID, err
}

// beginFor begins a run that does something for a move.
func (svc *Service) beginFor(ctx context.Context, move int64, wave int, kind string, o deployments.Order) (int64, error) {
	id, err := svc.runs.NewRun(ctx, o)
	if err != nil {
		return 0, err
	}
	if err := svc.store.AddMoveRun(ctx, move, store.MoveRun{Wave: wave, Kind: kind, Run: id}); err != nil {
		return 0, errors.Join(err, svc.store.Forget(ctx, id))
	}
	return id, svc.runs.Start(id)
}

// Steer says something to all copying of a wave: [run.CutOver], [run.Pause], [run.GoOn] or [run.LimitTo] with a number.
func (svc *Service) Steer(ctx context.Context, id int64, verb string) error {
	return svc.desk.Do(ctx, guard.SteerMove, acting.Move(id), func() error { return svc.steer(ctx, id, verb) }, acting.Saying("%s", verb))
}

func (svc *Service) steer(ctx context.Context, id int64, verb string) error {
	m, err := svc.inside().Move(ctx, id)
	if err != nil {
		return err
	}
	wave := m.Current()
	if m.States[wave] != WaveMoving {
		return fault.Conflictf("move %d is %s: there is nothing to steer", id, m.States[wave])
	}
	runID, _ := m.Run(wave)
	s, err := svc.deployments.Replay(ctx, runID)
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
		if err := svc.store.Decide(ctx, runID, store.Decision{Step: st.ID, Verb: verb}); err != nil {
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
func (svc *Service) CutOver(ctx context.Context, id int64) error {
	return svc.Steer(ctx, id, run.CutOver)
}

// stopWithin bounds for how long a run that moves is waited for to stop.
const stopWithin = 20 * time.Second
