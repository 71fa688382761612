package deployments

import (
	"context"
	"net"
	"sync"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/reach"
)

// Endpoint is a place where something must answer, and what a real request to it returned.
type Endpoint struct {
	Resource string `json:"resource"`
	Site     string `json:"site"`
	// Public endpoints are those that users reach.
	Public bool   `json:"public"`
	Where  string `json:"where"`
	Said   string `json:"said"`
	Good   bool   `json:"good"`
}

// Ask makes a real request of every endpoint of a run, all at once, in the plan's order.
func Ask(ctx context.Context, s *run.State) []Endpoint {
	var out []Endpoint
	var checks []plan.Condition
	for i := range s.Steps {
		st := &s.Steps[i]
		if st.Check.Kind != plan.CheckTCP && st.Check.Kind != plan.CheckHTTP {
			continue
		}
		r := s.Resource(st.Resource)
		out = append(out, Endpoint{Resource: r.Title, Site: r.Site, Public: r.Kind == kinds.Endpoint})
		checks = append(checks, st.Check)
	}
	var group sync.WaitGroup
	for i, c := range checks {
		group.Go(func() {
			address, errA := c.Address.Text(known{s})
			port, errP := c.Port.Text(known{s})
			if errA != nil || errP != nil {
				out[i].Said = "never got an address"
				return
			}
			out[i].Where = net.JoinHostPort(address, port)
			out[i].Said, out[i].Good = engine.Ask(reach.At(ctx, out[i].Site), c, out[i].Where)
		})
	}
	group.Wait()
	return out
}

// known resolves attributes from a run's state; secrets are not for watchers.
type known struct{ *run.State }

// Secret is never given.
func (known) Secret(string) (string, bool) { return "", false }
