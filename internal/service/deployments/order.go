package deployments

import (
	"andamio/internal/core/change"
	"andamio/internal/core/dispatch"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/plan"
)

// Order is a plan that is to be run.
type Order struct {
	// Request is what asked for it; 0 if none did.
	Request int64 `json:"request,omitempty"`
	// For is whose a new deployment is.
	For  guard.Owner `json:"for,omitzero"`
	Plan *plan.Plan  `json:"plan,omitempty"`
	// Deployment is what the plan changes; 0 makes a new one, of which Template says where its template was opened.
	Deployment int64  `json:"deployment"`
	Template   string `json:"template,omitempty"`
	// Wanted is the whole design that the plan leads to; nil is the plan itself, of one that raises.
	Wanted *plan.Plan      `json:"wanted,omitempty"`
	Limits dispatch.Limits `json:"limits"`
	// Move is the move that it belongs to, 0 if to none.
	Move int64 `json:"move"`
	// Bound is what bounds when it may begin that is done by itself.
	Bound Bound `json:"bound,omitempty"`
	// BoundAs is the deployment as which it is bound that it is done for, where that is another; 0 is its own.
	BoundAs int64 `json:"bound_as,omitempty"`
	// Why is the reason, where nobody is there who could be asked; the log has it.
	Why string `json:"why,omitempty"`
}

// Bound is what bounds when something may begin that is done by itself, and not by a person.
type Bound string

// The bounds.
const (
	// BoundByAll are blackouts, and of what takes service away maintenance windows, guarded hours, and that it is said before.
	BoundByAll Bound = ""
	// BoundByWindows are blackouts, and of what takes service away maintenance windows and guarded hours: that it is done was promised, and so said before.
	BoundByWindows Bound = "windows"
	// BoundByBlackouts are these alone: the time at which it is done is what was promised.
	BoundByBlackouts Bound = "blackouts"
	// BoundByNothing is for what ends a danger, or what would stay behind.
	BoundByNothing Bound = "nothing"
)

// CheckFresh checks that a plan raises a design from nothing. One that changes what stood when it was made fits nothing else,
// and is no design that something could be led to.
func CheckFresh(p *plan.Plan) error {
	if p.Purpose == "" || change.Found(p) { // what is only taken note of stands as it did
		return nil
	}
	return fault.Conflictf("this plan is to %s, and changes what stood when it was made: make it anew of what stands now, as with andamio diff", p.Purpose)
}
