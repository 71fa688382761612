package app

import (
	"context"
	"time"

	"andamio/internal/service/workspace"
)

// answerAgain is how long answering for the zone of the fronts is left alone where it could not be begun.
const answerAgain = 15 * time.Second

// answering is the answering for fronts that goes on, for the file as it was written at a time.
type answering struct {
	changed time.Time
	stop    context.CancelFunc
	ended   chan struct{}
}

// answer has the zone of the fronts be answered for, as their file says; what is answered for by a file that has changed is begun anew.
func (s *Serving) answer(ctx context.Context, h *held) {
	changed := s.a.workspace.Changed(workspace.FileFronts)
	before := s.fronts
	if before != nil && before.changed.Equal(changed) {
		return
	}
	if before == nil && changed.IsZero() {
		return
	}
	ctx, stop := context.WithCancel(ctx)
	now := &answering{changed, stop, make(chan struct{})}
	s.fronts = now
	s.work.Go(func() {
		defer close(now.ended)
		defer stop()
		if before != nil {
			before.stop()
			<-before.ended
		}
		for ctx.Err() == nil && !s.answered(ctx) {
			select {
			case <-ctx.Done():
			case <-time.After(answerAgain):
			}
		}
	})
}

// answered answers until the context ends, and reports that nothing more is to be tried.
func (s *Serving) answered(ctx context.Context) bool {
	f, err := s.a.Fronts(ctx)
	if err == nil && len(f.Listen) == 0 {
		return s.withdrawn(ctx)
	}
	if err == nil {
		err = s.a.AnswerFronts(ctx, f.Listen, true, func(at []string) { s.a.Log.Info("answering for the fronts", "zone", f.Zone, "at", at) })
	}
	if err != nil && ctx.Err() == nil {
		s.a.Log.Warn("the zone of the fronts is not answered for", "err", err)
		return false
	}
	return true
}

// withdrawn has plain names that no front has any more be withdrawn where nobody answers, and reports that nothing more is to be tried.
func (s *Serving) withdrawn(ctx context.Context) bool {
	err := s.a.WithdrawPlain(ctx)
	if err != nil && ctx.Err() == nil {
		s.a.Log.Warn("plain names that no front has any more could not be withdrawn", "err", err)
	}
	return err == nil
}
