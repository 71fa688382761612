package store

import (
	"context"

	"andamio/internal/core/guard"
	"andamio/internal/core/react"
)

// ReactionsStore keeps what reactions did and saw, and who set them.
type ReactionsStore interface {
	// ReactionStates are those of all reactions to all deployments, by deployment and name.
	ReactionStates(ctx context.Context) ([]react.Kept, error)
	// KeepReactionState keeps one, in the place of what was kept of the same.
	KeepReactionState(ctx context.Context, k react.Kept) error
	// DropReactionState forgets one.
	DropReactionState(ctx context.Context, reaction string, deployment int64) error
	// SetReactor notes who set the file of reactions that has a digest.
	SetReactor(ctx context.Context, digest string, by guard.Actor) error
	// Reactor is who set the file of reactions that has a digest; nobody where it was not set so.
	Reactor(ctx context.Context, digest string) (guard.Actor, error)
}
