// Package fronts is the service of names in front of many places: it knows which deployments serve them, asks their members again and again, and answers for their zone.
package fronts

import (
	"context"
	"log/slog"
	"net/netip"
	"slices"
	"strings"

	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/front"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/responder"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/sites"
	"andamio/internal/service/watch"
	"andamio/internal/service/workspace"
	"andamio/internal/store"
)

// Store is what the service reads.
type Store interface {
	Runs(ctx context.Context) ([]store.Run, error)
}

// Service is the service of fronts for one actor.
type Service struct {
	desk        *acting.Desk
	workspace   *workspace.Workspace
	store       Store
	log         *slog.Logger
	sites       *sites.Service
	deployments *deployments.Service
	watch       *watch.Service
}

// New returns the service for whoever is at the desk, over those of sites, deployments and measures.
func New(desk *acting.Desk, ws *workspace.Workspace, s Store, log *slog.Logger, at *sites.Service, of *deployments.Service, measures *watch.Service) *Service {
	return &Service{desk: desk, workspace: ws, store: s, log: log, sites: at, deployments: of, watch: measures}
}

// At is the same service for whoever is at another desk.
func (svc *Service) At(desk *acting.Desk) *Service {
	b := *svc
	b.desk = desk
	return &b
}

// Fronts are the workspace's; one without a zone where there is no file.
func (svc *Service) Fronts(context.Context) (*front.File, error) {
	if err := svc.desk.Read("the fronts"); err != nil {
		return nil, err
	}
	f, _, err := svc.workspace.Fronts()
	return f, err
}

// SetFronts keeps the workspace's fronts, from the text of their file.
func (svc *Service) SetFronts(ctx context.Context, text []byte) (*front.File, error) {
	f, err := front.Read(text)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	return f, svc.desk.Do(ctx, guard.SetFronts, guard.Named(printable.Count(len(f.Fronts), "front")), func() error { return svc.workspace.SetFronts(text) })
}

// Status is a front with its members as they were last.
type Status struct {
	Name    string         `json:"name"`
	Members []front.Member `json:"members"`
	// Plain is the name that has all of them in the zone of the connected name server; "" where none has.
	Plain string `json:"plain,omitempty"`
}

// FrontStates are all fronts with those of their members that the actor may see, as whoever answers for them knew them last.
func (svc *Service) FrontStates(ctx context.Context) ([]Status, error) {
	f, _, err := svc.workspace.Fronts()
	if err != nil {
		return nil, err
	}
	t, err := svc.last()
	if err != nil {
		return nil, err
	}
	var out []Status
	for i := range f.Fronts {
		s := Status{Name: f.Fronts[i].Name + "." + f.Zone, Members: []front.Member{}}
		if f.Fronts[i].Plain != "" {
			if z, err := svc.workspace.Zone(); err == nil && z != nil {
				s.Plain = z.Full(f.Fronts[i].Plain)
			}
		}
		var members []front.Member
		if t != nil {
			members = t.Members[f.Fronts[i].Name]
		}
		seen, err := acting.Seen(ctx, svc.desk, members, func(m front.Member) guard.Thing { return guard.Thing{Deployment: m.Deployment} })
		if err != nil {
			return nil, err
		}
		s.Members = append(s.Members, seen...)
		out = append(out, s)
	}
	if len(out) == 0 {
		return nil, svc.desk.Read("the fronts")
	}
	return out, nil
}

// last is what was known last; nil where nothing was.
func (svc *Service) last() (*front.Table, error) {
	data, err := svc.workspace.LastFronts()
	if err != nil || data == nil {
		return nil, err
	}
	return front.ReadTable(data)
}

// members are those of each front, by what stands now.
func (svc *Service) members(ctx context.Context, known *deployments.Known, f *front.File) (map[string][]front.Member, error) {
	all, err := svc.deployments.Refreshed(ctx, known)
	if err != nil {
		return nil, err
	}
	out := map[string][]front.Member{}
	for i := range f.Fronts {
		x := &f.Fronts[i]
		out[x.Name] = nil
		for _, d := range all {
			if d.State() == run.Retired || len(d.Stand.Plan.Resources) == 0 {
				continue
			}
			fits, err := x.Fits(d.Subject())
			if err != nil {
				return nil, fault.Default(fault.Invalid, err)
			}
			if fits && d.Stand.Plan.Arrange() == nil {
				out[x.Name] = append(out[x.Name], membersOf(x, d)...)
			}
		}
		slices.SortFunc(out[x.Name], func(a, b front.Member) int { return strings.Compare(a.Key(), b.Key()) })
	}
	return out, nil
}

// membersOf are the endpoints of a deployment that a front means, each asked by what says most of it. What is switched off as was asked for is none, nor what
// leads only to such.
func membersOf(f *front.Front, d *deployments.Deployment) []front.Member {
	var out []front.Member
	s := run.Stood(d.Stand.Plan, d.Stand.Unsure)
	seen, idle := map[netip.AddrPort]int{}, change.Idle(s.Plan)
	for _, p := range deployments.ProbesOf(s) {
		r := s.Plan.Resource(p.Resource)
		at, err := netip.ParseAddrPort(p.Where)
		if r == nil || err != nil {
			continue
		}
		software, endpoint := r, ""
		if of := s.Plan.Resource(r.AsEndpoint().EndpointOf); of != nil {
			software, endpoint = of, strings.TrimPrefix(r.ID, of.ID+".")
		}
		machine := s.Plan.Resource(software.On)
		if !f.Means(software.Node, endpoint) || machine != nil && machine.Kind == kinds.Instance && machine.Off || idle(software.ID) {
			continue
		}
		if i, has := seen[at]; has {
			if check := checkOf(&p.Check); check.HTTP {
				out[i].Check = check
			}
			continue
		}
		seen[at] = len(out)
		out = append(out, front.Member{Name: software.ID, Deployment: d.ID, Site: r.Site, Address: at.Addr().Unmap(), Port: at.Port(), Machine: software.On, Check: checkOf(&p.Check)})
	}
	return out
}

func checkOf(c *plan.Condition) front.Check {
	return front.Check{HTTP: c.Kind == plan.CheckHTTP, Path: c.Path, Status: c.Status, Contains: c.Contains}
}

// ResponderOf is a responder that asks members as they are asked in plans.
func ResponderOf() (*responder.Responder, *responder.Keeper) {
	r := &responder.Responder{}
	return r, &responder.Keeper{Responder: r, Ask: ask}
}
