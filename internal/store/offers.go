package store

import (
	"time"

	"andamio/internal/core/guard"
	"andamio/internal/core/offer"
)

// OfferState is how a version of an offer is.
type OfferState string

// The states: one version of an offer is published, and those before it are superseded; or it is withdrawn, and nobody may ask for it.
const (
	OfferPublished  OfferState = "published"
	OfferSuperseded OfferState = "superseded"
	OfferWithdrawn  OfferState = "withdrawn"
)

// Offer is a version of an offer.
type Offer struct {
	offer.Offer
	// Number counts the versions of its name from 1.
	Number int64 `json:"number"`
	// Source is the digest of its template's files.
	Source string      `json:"source"`
	By     guard.Actor `json:"by"`
	// Published is when.
	Published time.Time  `json:"published"`
	State     OfferState `json:"state"`
}
