package store

import (
	"time"

	"andamio/internal/core/guard"
)

// Deployment is what its runs left standing.
type Deployment struct {
	ID      int64
	Name    string
	Created time.Time
	// Mark is what everything of it bears at the sites.
	Mark string
	// Template is where its template was opened from, "" if that is not known.
	Template string
	// Owner is whose it is.
	Owner guard.Owner
}

// Decision is what a person decided on a step of a run: retry or skip it.
type Decision struct {
	ID   int64
	Step string
	Verb string
}

// Took is how long a step took.
type Took struct {
	Key, Step string
	Seconds   float64
	At        time.Time
}
