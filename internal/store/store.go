package store

import (
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/money"
	"andamio/internal/core/run"
)

// Run is what the store knows of a run without reading its journal.
type Run struct {
	ID     int64
	Plan   int64
	Name   string
	Preset string
	// CostPerHour is that of everything the plan builds.
	CostPerHour money.Amount
	Currency    string
	State       run.Status
	Created     time.Time
	// Ended is zero while the run goes on.
	Ended time.Time
	Steps int
	// Worker is who works on it; Beat is when it last showed that it lives.
	Worker Worker
	Beat   time.Time
	Cancel bool
	// Deployment is what the run belongs to, Purpose its plan's, Epoch counts the workers it has had.
	Deployment int64
	Purpose    string
	// Wanted is the plan of the whole design that the run leads to, 0 for none.
	Wanted int64
	Epoch  int64
	// Limits bound how much goes on at once, as JSON; Left says that a person settled what failed.
	Limits string
	Left   bool
	// Void runs only took note of things and were taken back: they count for nothing.
	Void bool
}

// ErrNotFound says that there is no such plan or run.
var ErrNotFound = fault.NotFoundf("not found")
