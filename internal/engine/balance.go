package engine

import (
	"context"
	"fmt"
	"strconv"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/site"
)

// balance tells a load balancer of the site's own what to do, or of a member, and looks that it has it so.
func (e *Engine) balance(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	at, can := site.Can[site.Balancer](ctx, e.Sites[s.Site])
	if !can {
		return site.Final(fmt.Errorf("%s runs no load balancers of its own", s.Site))
	}
	id, known := e.Attribute(r.On, "site.id")
	if !known {
		if s.Op == op.Dismiss { // there is none that could hand out to it
			return nil
		}
		return site.Final(fmt.Errorf("the site's id of %s is not known", r.On))
	}
	tell, has, err := e.balancing(ctx, s, at, id)
	if err != nil {
		return err
	}
	if err := e.call(ctx, s, tell); err != nil {
		if s.Op == op.Dismiss && site.ClassOf(err) == site.NotFound {
			return nil
		}
		return err
	}
	var now site.Balancing
	var members map[string]string
	if err := e.call(ctx, s, func() (err error) {
		now, members, err = at.Balances(ctx, id)
		return err
	}); err != nil {
		return err
	}
	if !has(now, members) {
		return fmt.Errorf("%s was told to %s and does otherwise: %+v, %v", s.Site, s.Title, now, members)
	}
	return e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: r.ID, Text: fmt.Sprintf("%d members", len(members))})
}

// balancing is what a step tells a balancer, and what it then has to have.
func (e *Engine) balancing(ctx context.Context, s *plan.Step, at site.Balancer, id string) (tell func() error, has func(site.Balancing, map[string]string) bool, err error) {
	switch s.Op {
	case op.Balance:
		want := site.Balancing{Port: s.Balancing.Port, Protocol: s.Balancing.Protocol, Algorithm: s.Balancing.Algorithm, Look: s.Balancing.Look}
		return func() error { return at.Balance(ctx, id, want) }, func(now site.Balancing, _ map[string]string) bool { return now == want }, nil
	case op.Dismiss:
		return func() error { return at.Dismiss(ctx, id, s.Member.Name) }, func(_ site.Balancing, members map[string]string) bool { return members[s.Member.Name] == "" }, nil
	}
	m := site.Member{Name: s.Member.Name}
	if m.Address, err = s.Member.Address.Text(e); err != nil {
		return nil, nil, err
	}
	port, err := s.Member.Port.Text(e)
	if err != nil {
		return nil, nil, err
	}
	if m.Port, err = strconv.Atoi(port); err != nil {
		return nil, nil, site.Final(fmt.Errorf("the port of %s is %q", m.Name, port))
	}
	return func() error { return at.Enroll(ctx, id, m) }, func(_ site.Balancing, members map[string]string) bool { return members[m.Name] == joined(m) }, nil
}

func joined(m site.Member) string { return m.Address + ":" + strconv.Itoa(m.Port) }
