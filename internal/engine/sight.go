package engine

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/site"
)

// mark is what everything of a deployment bears at the sites: the deployment, the step that built it, and the run of
// that step.
func (e *Engine) mark(step string) string { return e.markOf(step) + e.Run }

// markOf is how the marks of a step begin, in whatever run.
func (e *Engine) markOf(step string) string {
	id := op.ParseID(step)
	if origin := e.Plan.Origins[id.Resource]; origin != "" {
		id.Resource = origin
	}
	return fmt.Sprintf("%s%s #", e.markAll(), id)
}

// markAll is how the marks of everything of the deployment begin.
func (e *Engine) markAll() string { return fmt.Sprintf("andamio %s ", e.Mark) }

// sight keeps what was seen at the sites when a run went on, so that looking for a hundred steps' work takes a few
// listings.
type sight struct {
	mu   sync.Mutex
	seen map[string]*listing
}

type listing struct {
	once sync.Once
	all  []site.Resource
	err  error
}

func newSight() *sight { return &sight{seen: map[string]*listing{}} }

// look lists a kind at a step's site.
func (e *Engine) look(ctx context.Context, s *plan.Step, kind kinds.Kind) ([]site.Resource, error) {
	var all []site.Resource
	err := e.call(ctx, s, func() (err error) {
		all, err = e.Sites[s.Site].List(ctx, kind)
		return err
	})
	return all, err
}

// atFirst is what was there when the run went on.
func (e *Engine) atFirst(ctx context.Context, s *plan.Step, kind kinds.Kind) ([]site.Resource, error) {
	e.sight.mu.Lock()
	key := s.Site + " " + string(kind)
	l := e.sight.seen[key]
	if l == nil {
		l = &listing{}
		e.sight.seen[key] = l
	}
	e.sight.mu.Unlock()
	l.once.Do(func() { l.all, l.err = e.look(ctx, s, kind) })
	if l.err != nil {
		return e.look(ctx, s, kind) // the first who looked could not; this one's deadline is its own
	}
	return l.all, nil
}

// bearing are those of a list whose mark begins so.
func bearing(all []site.Resource, mark string) []site.Resource {
	var out []site.Resource
	for _, r := range all {
		if strings.HasPrefix(r.Mark, mark) {
			out = append(out, r)
		}
	}
	return out
}
