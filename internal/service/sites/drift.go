package sites

import (
	"context"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/sandbox"
	"andamio/internal/service/acting"
	"andamio/internal/service/workspace"
)

// DriftRequest says how stand-ins are to change by themselves.
type DriftRequest struct {
	Seed  uint64   `json:"seed"`
	Count int      `json:"count"`
	Site  string   `json:"site,omitempty"`
	Sorts []string `json:"sorts,omitempty"`
}

// Drift has the workspace's stand-ins change behind everybody's back, each as often as chance says. Sites that are no
// stand-ins refuse.
func (svc *Service) Drift(ctx context.Context, w DriftRequest) (out []sandbox.Drifted, err error) {
	err = svc.desk.Do(ctx, guard.StandIns, guard.Named("the workspace"), func() (err error) {
		out, err = svc.drift(ctx, w)
		return err
	}, acting.Saying("%d changes by themselves", w.Count))
	return out, err
}

func (svc *Service) drift(ctx context.Context, w DriftRequest) ([]sandbox.Drifted, error) {
	if err := svc.workspace.OfStandIns(); err != nil { // no other site is sent its credential for this
		return nil, err
	}
	connections, err := svc.workspace.Connections()
	if err != nil {
		return nil, err
	}
	connections = slices.DeleteFunc(connections, func(c workspace.Connection) bool { return w.Site != "" && c.Site != w.Site })
	if len(connections) == 0 {
		return nil, fault.NotFoundf("there is no such site")
	}
	var sorts []sandbox.Change
	for _, s := range w.Sorts {
		if !slices.Contains(sandbox.Changes, sandbox.Change(s)) {
			return nil, fault.Invalidf("there is no change %q; there are %v", s, sandbox.Changes)
		}
		sorts = append(sorts, sandbox.Change(s))
	}
	rng := rand.New(rand.NewPCG(w.Seed, 21))
	counts := make([]int, len(connections))
	for range w.Count {
		counts[rng.IntN(len(counts))]++
	}
	out := []sandbox.Drifted{}
	for i, c := range connections {
		if counts[i] == 0 {
			continue
		}
		done, err := sandbox.AskDrift(ctx, c.Site, c.Address(), c.Credential(), sandbox.DriftRequest{Seed: w.Seed + uint64(i), Count: counts[i], Sorts: sorts})
		if err != nil {
			return out, err
		}
		out = append(out, done...)
	}
	return out, nil
}

// LoadRequest says how much of what a machine of a stand-in has is used for a while, from 0 to 1, by measure.
type LoadRequest struct {
	Site   string             `json:"site"`
	Name   string             `json:"name"`
	Shares map[string]float64 `json:"shares"`
	Until  time.Time          `json:"until"`
}

// Load has a machine of one of the workspace's stand-ins use what it is told for a while. Sites that are no stand-ins refuse.
func (svc *Service) Load(ctx context.Context, w LoadRequest) error {
	return svc.desk.Do(ctx, guard.StandIns, guard.At(w.Site), func() error {
		if err := svc.workspace.OfStandIns(); err != nil { // no other site is sent its credential for this
			return err
		}
		for name, share := range w.Shares {
			if !slices.Contains(sandbox.Loaded, name) || !(share >= 0 && share <= 1) {
				return fault.Invalidf("%s: a share of %s is between 0 and 100 %%", name, strings.Join(sandbox.Loaded, ", "))
			}
		}
		c, err := svc.workspace.Connection(w.Site)
		if err != nil {
			return err
		}
		err = sandbox.AskLoad(ctx, c.Site, c.Address(), c.Credential(), sandbox.Load{Name: w.Name, Shares: w.Shares, Until: w.Until})
		return fault.Default(fault.Unavailable, err)
	}, acting.Saying("%s is loaded until %s", w.Name, w.Until.Format(time.RFC3339)))
}
