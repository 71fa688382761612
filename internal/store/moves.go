package store

import "time"

// Move is workloads on their way from one site to another, or there.
type Move struct {
	ID, Deployment int64
	Created        time.Time
	Who            string
	// Body is what is moved where and how, as JSON.
	Body []byte
	Runs []MoveRun
}

// What a run does for a move.
const (
	MoveThere  = "move"
	MoveBack   = "back"
	MoveCommit = "commit"
)

// MoveRun is a run that does something for a wave of a move.
type MoveRun struct {
	Wave int
	Kind string
	Run  int64
}
