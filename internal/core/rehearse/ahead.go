package rehearse

import (
	"time"

	"andamio/internal/core/dispatch"
	"andamio/internal/core/history"
	"andamio/internal/core/plan"
)

const (
	// surely is the share of imagined runs that end in time, and spare what is added to that, since what is known is not all.
	surely = 0.99
	spare  = 1.15
	// roundsAhead is how many runs are imagined for that.
	roundsAhead = 400
)

// Ahead is how long before a time a run of a plan has to begin to have ended by then, but for one in some hundred.
func Ahead(p *plan.Plan, h *history.History) time.Duration {
	stage := newStage(p, nil, 0, dispatch.Default)
	draw := h.Draw(p, 0)
	all := make([]float64, 0, roundsAhead)
	for range roundsAhead {
		draw.Begin()
		end, _ := stage.play(stage.durations(draw))
		all = append(all, end)
	}
	return duration(history.Quantile(all, surely) * spare)
}
