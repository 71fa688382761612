// Package reactions is the service of what is done by itself about how things are. Again and again it looks at the deployments that reactions are for, has them decided on, and has what is decided be
// carried out as a plan and a run, or proposed, in the name of who set the reactions.
package reactions

import (
	"cmp"
	"context"
	"log/slog"
	"slices"
	"sync"
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/core/react"
	"andamio/internal/core/run"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/service/watch"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service reads, and where it keeps what reactions did.
type Store interface {
	store.ReactionsStore
	OpenAlerts(ctx context.Context) ([]alarm.Alert, error)
	Promises(ctx context.Context) ([]promise.Promise, error)
}

// Over are the services that this one stands on.
type Over struct {
	Sites       *sites.Service
	Deployments *deployments.Service
	Runs        *runs.Service
	Moves       *moves.Service
	Watch       *watch.Service
}

// Memory is what whoever serves knows from one time to the next.
type Memory struct {
	round sync.Mutex
	// known are all deployments.
	known deployments.Known
	// ahead is how long another machine of a tier takes until it serves, and what the tier usually uses then, by deployment, run and tier.
	ahead map[string]ahead
	// estate is as it was at a time.
	estate *estate.Estate
	seen   time.Time
	// waits are until when nothing is tried, by deployment, since something held it.
	waits map[int64]time.Time
}

// Service is the service of reactions for one actor.
type Service struct {
	desk      *acting.Desk
	workspace *workspace.Workspace
	store     Store
	log       *slog.Logger
	memory    *Memory
	over      Over
}

// New returns the service for whoever is at the desk.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger, memory *Memory, over Over) *Service {
	return &Service{desk: desk, workspace: ws, store: s, log: log, memory: memory, over: over}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// Reactions are the workspace's reactions.
func (svc *Service) Reactions(context.Context) (*react.File, error) {
	if err := svc.desk.Read("the reactions"); err != nil {
		return nil, err
	}
	return svc.workspace.Reactions()
}

// SetReactions keeps the workspace's reactions, from the text of their file. What they do is done in the name of the actor.
func (svc *Service) SetReactions(ctx context.Context, text []byte) (*react.File, error) {
	f, err := react.Read(text)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	return f, svc.desk.Do(ctx, guard.SetReactions, guard.Named(printable.Count(len(f.Reactions), "reaction")), func() error {
		if err := svc.store.SetReactor(ctx, workspace.DigestOf(text), svc.desk.Actor); err != nil {
			return err
		}
		return svc.workspace.SetReactions(text)
	})
}

// Status is how a reaction stands to a deployment.
type Status struct {
	Reaction   string      `json:"reaction"`
	Words      string      `json:"words"`
	Mode       react.Mode  `json:"mode"`
	Deployment int64       `json:"deployment"`
	Name       string      `json:"deployment_name"`
	State      react.State `json:"state"`
}

// Stands says in words how it stands: why a person is called, what it decided last, or that it has nothing to do.
func (s *Status) Stands() string {
	switch {
	case !s.State.Called.IsZero():
		return "a person is called: " + s.State.CalledFor
	case s.State.Says != "":
		return s.State.Says
	}
	return "nothing is to be done"
}

// Reacting says of all reactions how they stand to the deployments that they are for and the actor may see.
func (svc *Service) Reacting(ctx context.Context) ([]Status, error) {
	f, err := svc.workspace.Reactions()
	if err != nil {
		return nil, err
	}
	states, err := svc.states(ctx)
	if err != nil {
		return nil, err
	}
	all, err := svc.over.Deployments.At(svc.desk).Deployments(ctx)
	if err != nil {
		return nil, err
	}
	var out []Status
	for i := range all {
		d := &all[i]
		if d.State() == run.Retired {
			continue
		}
		of, err := f.For(d.Subject())
		if err != nil {
			return nil, fault.Default(fault.Invalid, err)
		}
		for _, r := range of {
			out = append(out, Status{r.Name, r.Words(), r.Mode, d.ID, d.Name, states[key{r.Name, d.ID}]})
		}
	}
	slices.SortStableFunc(out, func(a, b Status) int { return cmp.Compare(a.Deployment, b.Deployment) })
	return out, nil
}

// ResumeReaction has a reaction act again that called a person, or did something as often as it may.
func (svc *Service) ResumeReaction(ctx context.Context, reaction string, deployment int64) error {
	return svc.desk.Do(ctx, guard.ResumeReaction, guard.Thing{Name: reaction, Deployment: deployment}, func() error {
		states, err := svc.states(ctx)
		if err != nil {
			return err
		}
		if _, has := states[key{reaction, deployment}]; !has {
			return fault.NotFoundf("no reaction %q has done anything to deployment %d; andamio reaction lists them", reaction, deployment)
		}
		return svc.store.DropReactionState(ctx, reaction, deployment)
	})
}

// key names the state of a reaction to a deployment.
type key struct {
	reaction   string
	deployment int64
}

func (svc *Service) states(ctx context.Context) (map[key]react.State, error) {
	all, err := svc.store.ReactionStates(ctx)
	if err != nil {
		return nil, err
	}
	out := make(map[key]react.State, len(all))
	for _, k := range all {
		out[key{k.Reaction, k.Deployment}] = k.State
	}
	return out, nil
}
