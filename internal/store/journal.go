package store

import "andamio/internal/core/fault"

// ErrTaken says that another worker has taken a run over, so that this one may do nothing more.
var ErrTaken = fault.Conflictf("another worker has taken the run over")
