package store

import (
	"context"
	"time"

	"andamio/internal/core/clock"
)

// Lease is what only one process of a workspace has at a time.
type Lease struct {
	Name   string
	Holder Worker
	// Note is what its holder says of itself, such as where it is reached.
	Note  string
	Epoch int64
	Since time.Time
	// Beat is when the holder last showed that it lives; zero says that it was given back.
	Beat time.Time
}

// FiringState is what became of something that was due.
type FiringState string

// The states of a firing.
const (
	FiringGoing  FiringState = "going"
	FiringDone   FiringState = "done"
	FiringFailed FiringState = "failed"
	FiringMissed FiringState = "missed"
	// FiringHeld is held by a blackout, or until a maintenance window opens.
	FiringHeld FiringState = "held"
)

// Firing is one time at which something was due, and what became of it.
type Firing struct {
	Due           int64
	At            time.Time
	Kind, Subject string
	State         FiringState
	// Missed is how many times before it were not seen to.
	Missed int
	// Tries is how often it was tried; Again is when it is tried next, zero if never. Began is when it was tried last.
	Tries               int
	Began, Ended, Again time.Time
	Note                string
}

// ClockStore keeps what is due and what became of it, and who sees to it.
type ClockStore interface {
	// TakeLease takes a lease that nobody has, whose holder has been silent since a moment, or of whom lives says that it does not live,
	// and returns its epoch. ErrTaken says that another has it.
	TakeLease(ctx context.Context, name string, holder Worker, note string, now, silentSince time.Time, lives func(Lease) bool) (epoch int64, err error)
	// HoldLease shows that the holder lives. ErrTaken says that another has the lease.
	HoldLease(ctx context.Context, name string, epoch int64, now time.Time) error
	// SayOfLease is HoldLease by a holder who says something else of itself from now on.
	SayOfLease(ctx context.Context, name string, epoch int64, note string, now time.Time) error
	// LeaveLease gives a lease back.
	LeaveLease(ctx context.Context, name string, epoch int64) error
	// Leases are those whose names begin so, by name.
	Leases(ctx context.Context, prefix string) ([]Lease, error)
	// Lease is how a lease is; ErrNotFound says that nobody ever had it.
	Lease(ctx context.Context, name string) (Lease, error)

	// Register keeps something that is due. What is registered again otherwise counts from then on.
	Register(ctx context.Context, d clock.Due) (int64, error)
	// Unregister has something be due no more.
	Unregister(ctx context.Context, kind, subject string) error
	// Dues is all that is registered.
	Dues(ctx context.Context) ([]clock.Due, error)
	// Fire notes that something is begun, or that it was missed, at most once for each time; false says that somebody did. Only the holder of a
	// lease at its epoch may: ErrTaken says that it is not.
	Fire(ctx context.Context, lease string, epoch int64, f Firing) (bool, error)
	// EndFiring notes what became of it.
	EndFiring(ctx context.Context, f Firing) error
	// Firings are the last, the newest first.
	Firings(ctx context.Context, limit int) ([]Firing, error)
}
