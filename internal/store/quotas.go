package store

import (
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/quota"
)

// Hold is what somebody has of quotas for one thing.
type Hold struct {
	ID int64 `json:"id"`
	// Request and Deployment are what it is for; either may be 0.
	Request    int64        `json:"request,omitempty"`
	Deployment int64        `json:"deployment,omitempty"`
	Owner      guard.Owner  `json:"owner"`
	Parts      []quota.Part `json:"parts"`
	State      quota.State  `json:"state"`
	At         time.Time    `json:"at"`
}
