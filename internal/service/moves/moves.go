package moves

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/migrate"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/runs"
	"andamio/internal/store"
)

// Move is workloads on their way from one site to another, or there.
type Move struct {
	store.Move `json:"-"`
	Name       string           `json:"name"`
	Request    Request          `json:"wish"`
	Choices    []migrate.Choice `json:"choices"`
	Waves      []migrate.Wave   `json:"waves"`
	// From is where each workload was.
	From map[string]string `json:"from"`
	// Loads are what was measured of each workload before it was begun.
	Loads map[string]migrate.Load `json:"loads,omitempty"`
	// Differences are what is otherwise there, as it was said before a wave was begun.
	Differences []migrate.Difference `json:"differences,omitempty"`
	// States are how the waves stand.
	States []WaveState `json:"-"`
	// taken is what it is of where that is to be taken over first.
	taken *subject
}

// WaveState is how a wave stands.
type WaveState string

// The states of a wave.
const (
	WavePlanned   WaveState = "planned"
	WaveMoving    WaveState = "moving"
	WaveBroken    WaveState = "broken off"
	WaveMoved     WaveState = "moved, not committed"
	WaveReturning WaveState = "going back"
	WaveBack      WaveState = "gone back"
	WaveLeaving   WaveState = "being committed"
	WaveDone      WaveState = "committed"
)

// way is from which site to which a workload goes.
func (m *Move) way(c migrate.Choice) string { return m.From[c.Instance] + " → " + c.Site }

// Open reports that a wave of the move is neither committed nor gone back from.
func (m *Move) Open() bool {
	return slices.ContainsFunc(m.States, func(s WaveState) bool { return s != WavePlanned && s != WaveBack && s != WaveDone })
}

// Between reports that a move takes something from one of two sites to the other.
func (m *Move) Between(x, y string) bool {
	return slices.ContainsFunc(m.Choices, func(c migrate.Choice) bool {
		from := m.From[c.Instance]
		return from == x && c.Site == y || from == y && c.Site == x
	})
}

// Run is the last run of a wave, 0 if there is none, and what it does.
func (m *Move) Run(wave int) (id int64, kind string) {
	for _, r := range m.Runs {
		if r.Wave == wave {
			id, kind = r.Run, r.Kind
		}
	}
	return id, kind
}

// There is the run that moves a wave, the last where there were several; 0 if there is none.
func (m *Move) There(wave int) int64 {
	id := int64(0)
	for _, r := range m.Runs {
		if r.Wave == wave && r.Kind == store.MoveThere {
			id = r.Run
		}
	}
	return id
}

// Current is the wave that something is to be done with: the first that is not over, or the last.
func (m *Move) Current() int {
	for i, s := range m.States {
		if s != WaveDone && s != WaveBack && s != WaveMoved {
			return i
		}
	}
	for i, s := range m.States {
		if s == WaveMoved {
			return i
		}
	}
	return max(len(m.States)-1, 0)
}

// Moves lists all moves with how they stand, the newest first.
func (svc *Service) Moves(ctx context.Context) ([]*Move, error) {
	all, err := svc.store.Moves(ctx)
	if err != nil {
		return nil, err
	}
	if all, err = acting.Seen(ctx, svc.desk, all, func(m store.Move) guard.Thing { return acting.Move(m.ID) }); err != nil {
		return nil, err
	}
	var out []*Move
	for _, x := range all {
		m, err := svc.readMove(ctx, x)
		if err != nil {
			return nil, err
		}
		out = append(out, m)
	}
	return out, nil
}

// Move is one of them.
func (svc *Service) Move(ctx context.Context, id int64) (*Move, error) {
	if err := svc.desk.See(ctx, acting.Move(id)); err != nil {
		return nil, err
	}
	x, err := svc.store.Move(ctx, id)
	if err != nil {
		return nil, err
	}
	return svc.readMove(ctx, x)
}

func (svc *Service) readMove(ctx context.Context, x store.Move) (*Move, error) {
	m := &Move{}
	if err := json.Unmarshal(x.Body, m); err != nil {
		return nil, fmt.Errorf("move %d cannot be read: %w", x.ID, err)
	}
	m.Move = x
	if m.Loads == nil {
		m.Loads = map[string]migrate.Load{}
	}
	for wave := range m.Waves {
		s, err := svc.waveState(ctx, m, wave)
		if err != nil {
			return nil, err
		}
		m.States = append(m.States, s)
	}
	return m, nil
}

// waveState is how a wave stands, by its last run.
func (svc *Service) waveState(ctx context.Context, m *Move, wave int) (WaveState, error) {
	id, kind := m.Run(wave)
	if id == 0 {
		return WavePlanned, nil
	}
	r, err := svc.store.Run(ctx, id)
	if err != nil {
		return "", err
	}
	going := (r.State == run.UnderWay || r.State == run.Planned) && !runs.Abandoned(r, time.Now())
	of := map[string][2]WaveState{store.MoveThere: {WaveMoving, WaveMoved}, store.MoveBack: {WaveReturning, WaveBack}, store.MoveCommit: {WaveLeaving, WaveDone}}[kind]
	switch {
	case r.Void:
		return WaveBack, nil
	case r.State == run.Standing:
		return of[1], nil
	case going:
		return of[0], nil
	}
	return WaveBroken, nil
}
