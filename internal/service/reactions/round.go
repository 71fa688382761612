package reactions

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/promise"
	"andamio/internal/core/react"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
)

// React looks once at all deployments that reactions are for, and has done what they decide: who serves the workspace does so again and again, and nobody else.
func (svc *Service) React(ctx context.Context, now time.Time) error {
	if err := svc.desk.Read("what is reacted to"); err != nil {
		return err
	}
	svc.memory.round.Lock()
	defer svc.memory.round.Unlock()
	f, err := svc.workspace.Reactions()
	if err != nil {
		return err
	}
	states, err := svc.states(ctx)
	if err != nil || len(f.Reactions) == 0 && len(states) == 0 {
		return err
	}
	all, err := svc.over.Deployments.Refreshed(ctx, &svc.memory.known)
	if err != nil {
		return err
	}
	r := &round{now: now, states: states, lives: map[key]bool{}}
	if err := svc.common(ctx, r); err != nil {
		return err
	}
	var errs []error
	for _, d := range all {
		if d.State() == run.Retired || ctx.Err() != nil {
			continue
		}
		of, err := f.For(d.Subject())
		if err == nil && len(of) > 0 {
			err = svc.look(ctx, r, d, of)
		}
		if err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", d.Name, err))
			for k := range states { // for which it is, is not known: what it did is not forgotten
				r.lives[k] = r.lives[k] || k.deployment == d.ID
			}
		}
	}
	for k := range states { // of reactions and deployments that are no more
		if !r.lives[k] && ctx.Err() == nil {
			errs = append(errs, svc.store.DropReactionState(ctx, k.reaction, k.deployment))
		}
	}
	return errors.Join(errs...)
}

// round is what is known of everything at one time.
type round struct {
	now    time.Time
	states map[key]react.State
	lives  map[key]bool
	alerts []alarm.Alert
	// recovered are deployments of which it is promised that what fell is raised again.
	recovered map[int64]bool
	// spreading is when something was evened out at a site last.
	spreading map[string]time.Time
}

// common is what is the same for all deployments.
func (svc *Service) common(ctx context.Context, r *round) (err error) {
	if r.alerts, err = svc.store.OpenAlerts(ctx); err != nil {
		return err
	}
	promises, err := svc.store.Promises(ctx)
	if err != nil {
		return err
	}
	r.recovered, r.spreading = map[int64]bool{}, map[string]time.Time{}
	for i := range promises {
		if promises[i].Kind == promise.Recovered {
			r.recovered[promises[i].Deployment] = true
		}
	}
	for _, st := range r.states {
		for _, a := range st.Acts {
			if a.Do == react.Spreading && a.At.After(r.spreading[a.Site]) {
				r.spreading[a.Site] = a.At
			}
		}
	}
	return nil
}

// look has the reactions to one deployment decide, and carries out what one of them decides.
func (svc *Service) look(ctx context.Context, r *round, d *deployments.Deployment, of []*react.Reaction) error {
	states := make([]*react.State, len(of))
	for i, x := range of {
		k := key{x.Name, d.ID}
		st := r.states[k]
		r.lives[k], states[i] = true, &st
	}
	s, troubles, err := svc.situation(ctx, r, d, of, states)
	if err != nil {
		return err
	}
	which, decided := react.Step(of, states, s, r.now)
	for i, x := range of {
		if i == which {
			continue
		}
		if wrong := troubles[x.Name]; wrong != nil {
			states[i].Says = wrong.Error()
		}
		if err := svc.keep(ctx, r, key{x.Name, d.ID}, *states[i]); err != nil {
			return err
		}
	}
	if which < 0 {
		return nil
	}
	return svc.carry(ctx, r, d, of[which], states[which], &decided)
}

// keep keeps a state that is other than before.
func (svc *Service) keep(ctx context.Context, r *round, k key, st react.State) error {
	if was, has := r.states[k]; has == !reflect.DeepEqual(st, react.State{}) && reflect.DeepEqual(was, st) {
		return nil
	}
	r.states[k] = st
	return svc.store.KeepReactionState(ctx, react.Kept{Reaction: k.reaction, Deployment: k.deployment, State: st})
}
