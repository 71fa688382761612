package engine

import (
	"context"

	"andamio/internal/core/plan"
)

// hold waits until a window opens in which may be copied.
func (e *Engine) hold(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	return e.newCopier(s).wait(ctx)
}
