package store

import (
	"time"

	"andamio/internal/core/hook"
)

// DeliveryState is how far what a hook set off has got.
type DeliveryState string

// The states. What failed as often as it is tried is given up until somebody says otherwise; of what is unsure nobody knows whether it
// arrived, and it is not sent twice.
const (
	DeliveryWaiting DeliveryState = "waiting"
	DeliverySending DeliveryState = "sending"
	DeliverySent    DeliveryState = "sent"
	DeliveryFailed  DeliveryState = "failed"
	DeliveryUnsure  DeliveryState = "unsure"
)

// Delivery is an event that a hook tells.
type Delivery struct {
	ID    int64         `json:"id"`
	Hook  string        `json:"hook"`
	Event hook.Event    `json:"event"`
	At    time.Time     `json:"at"`
	State DeliveryState `json:"state"`
	Tries int           `json:"tries"`
	// Next is when it is tried again, while it waits, or when it was taken up.
	Next time.Time `json:"next,omitzero"`
	// Note says what came of it last.
	Note string `json:"note,omitempty"`
}
