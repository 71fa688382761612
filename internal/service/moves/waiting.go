package moves

import (
	"context"
	"time"

	"andamio/internal/core/change"
	"andamio/internal/core/migrate"
)

// Waiting is a move that waits for somebody.
type Waiting struct {
	Move  *Move     `json:"move,omitempty"`
	Wave  int       `json:"wave"`
	State WaveState `json:"state"`
	// Ready says that a wave that is being moved can be cut over, and Down for how many seconds it would not serve.
	Ready bool    `json:"ready"`
	Down  float64 `json:"down"`
	// Failures is how many steps of it have failed.
	Failures int `json:"failures"`
	// Both are instances of a failing over that broke off which are on where it went, and were on where they were when last heard of: going on, and going
	// back, ends that.
	Both []string `json:"both,omitempty"`
	// Opens is when the window of a planned wave opens next; zero if it has none.
	Opens time.Time `json:"opens,omitzero"`
}

// soon is how long before a window opens a wave that is to be begun in it is spoken of.
const soon = time.Hour

// Waiting are the moves that wait for somebody: to be cut over, mended, committed or gone back from, or begun since their
// window is about to open.
func (svc *Service) Waiting(ctx context.Context, now time.Time) ([]Waiting, error) {
	all, err := svc.Moves(ctx)
	if err != nil {
		return nil, err
	}
	var out []Waiting
	for _, m := range all {
		for wave, state := range m.States {
			w := Waiting{Move: m, Wave: wave, State: state}
			switch state {
			case WaveMoved:
			case WaveBroken:
				if w.Both, err = svc.both(ctx, m, wave); err != nil {
					return nil, err
				}
			case WaveMoving:
				if err := svc.look(ctx, &w); err != nil {
					return nil, err
				}
				if !w.Ready && w.Failures == 0 {
					continue
				}
			case WavePlanned:
				windows, err := m.Request.Windows(now)
				if err != nil || len(windows) == 0 || wave > 0 && m.States[wave-1] == WavePlanned || windows[0].From.Sub(now) > soon {
					continue
				}
				w.Opens = windows[0].From
			default:
				continue
			}
			out = append(out, w)
		}
	}
	return out, nil
}

// look finds out how a wave is that is being moved.
func (svc *Service) look(ctx context.Context, w *Waiting) error {
	s, err := svc.deployments.Replay(ctx, w.Move.There(w.Wave))
	if err != nil {
		return err
	}
	w.Failures, w.Ready, w.Down = s.Failures, true, migrate.Down(s.Plan)
	for _, id := range w.Move.Waves[w.Wave].Instances {
		w.Ready = w.Ready && migrate.PhaseOf(s, id) == migrate.Ready
	}
	return nil
}

// both are the instances of a wave that are on where it went and where they were: at a site that did not answer nothing was switched off.
func (svc *Service) both(ctx context.Context, m *Move, wave int) ([]string, error) {
	if m.Request.Mode != change.FromCopy {
		return nil, nil
	}
	s, err := svc.deployments.Standing(ctx, m.Deployment)
	if err != nil {
		return nil, err
	}
	on := func(id string) bool {
		r := s.Plan.Resource(id)
		return r != nil && (!r.Off || r.Suspended)
	}
	var out []string
	for _, id := range m.Waves[wave].Instances {
		if on(id) && on(change.KeptID(id, m.From[id])) {
			out = append(out, id)
		}
	}
	return out, nil
}
