package tokens

import (
	"context"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/store"
)

// KnownFor is for how long it is known how what was asked with a key was answered.
const KnownFor = 24 * time.Hour

// Answered is how a request was answered that is done once.
type Answered struct {
	Status int
	Type   string
	Body   []byte
}

// Once says that something is asked with a key (the Idempotency-Key of a request) by the token that whoever asks came with. Where that is new, it is nil; else it is how it was answered. A conflict says that it
// goes on, or broke off, so that nobody knows whether it was done; something else that was asked with the key is invalid.
func (svc *Service) Once(ctx context.Context, key, digest string, now time.Time) (*Answered, error) {
	if err := svc.store.ForgetOnce(ctx, now.Add(-KnownFor)); err != nil {
		return nil, err
	}
	o, isNew, err := svc.store.KeepOnce(ctx, store.Once{Who: svc.desk.Token(), Key: key, Digest: digest, At: now.UTC()})
	switch {
	case err != nil || isNew:
		return nil, err
	case o.Digest != digest:
		return nil, fault.Invalidf("something else was asked with the Idempotency-Key %q: each key is for one request", key)
	case o.Status == 0:
		return nil, fault.Conflictf("what was asked with the Idempotency-Key %q goes on, or broke off: look what became of it", key)
	}
	return &Answered{o.Status, o.Type, o.Body}, nil
}

// WasAnswered keeps how what was asked with a key was answered.
func (svc *Service) WasAnswered(ctx context.Context, key string, a Answered) error {
	return svc.store.AnswerOnce(ctx, store.Once{Who: svc.desk.Token(), Key: key, Status: a.Status, Type: a.Type, Body: a.Body})
}
