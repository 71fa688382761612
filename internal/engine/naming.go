package engine

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/names"
	"andamio/internal/site"
)

// name makes a name stand for where a resource is, or for nothing, waits until everybody who is asked knows it, and then
// asks the service by its name.
func (e *Engine) name(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	n := s.Naming
	if e.Zone == nil {
		return site.Final(fmt.Errorf("no name server is connected, so %s cannot be changed", n.Name))
	}
	services := make([]string, 0, len(n.Ports))
	for label := range n.Ports {
		services = append(services, label)
	}
	if s.Op == op.Unname {
		err := e.withRefusal(ctx, s, func() error { return e.zone().Withdraw(ctx, n.Name, services) })
		if errors.Is(err, names.ErrTaken) { // it was taken from us meanwhile: nothing of ours is left of it
			return e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: "left as it is: " + err.Error()})
		}
		return err
	}
	target, err := e.target(n)
	if err != nil {
		return err
	}
	if err := e.withRefusal(ctx, s, func() error { return e.zone().Publish(ctx, n.Name, target) }); err != nil {
		return err
	}
	if err := e.agree(ctx, s, target); err != nil || n.Ask == "" {
		return err
	}
	return e.askByName(ctx, s)
}

// zone is where names are kept, for this deployment.
func (e *Engine) zone() names.Zone {
	z := *e.Zone
	z.Owner = e.Mark
	return z
}

// withRefusal makes a call again unless the name server refuses it.
func (e *Engine) withRefusal(ctx context.Context, s *plan.Step, call func() error) error {
	return e.call(ctx, s, func() error {
		err := call()
		if errors.Is(err, names.ErrRefused) || errors.Is(err, names.ErrTaken) {
			return site.Final(err)
		}
		return err
	})
}

// target is what a name is to stand for, as the site told.
func (e *Engine) target(n *plan.Naming) (names.Target, error) {
	address, ok := e.Attribute(n.Interface, site.AttrAddress)
	if !ok {
		return names.Target{}, fmt.Errorf("where %s is reached is not known", n.Interface)
	}
	out := names.Target{Address: address, Ports: map[string]int{}}
	for label, port := range n.Ports {
		text, _ := e.Attribute(n.Interface, site.AttrPort+strconv.Itoa(port))
		mapped, err := strconv.Atoi(text)
		if err != nil {
			return out, fmt.Errorf("where port %d of %s is reached is not known", port, n.Interface)
		}
		out.Ports[label] = mapped
	}
	return out, nil
}

// agree waits until the name server and all resolvers answer alike: those that keep an older answer may for as long as
// its time to live says.
func (e *Engine) agree(ctx context.Context, s *plan.Step, t names.Target) error {
	said := ""
	for {
		left := e.Zone.Disagree(ctx, s.Naming.Name, t)
		if len(left) == 0 {
			return e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource,
				Text: fmt.Sprintf("%s stands for %s, say all %d who were asked", s.Naming.Name, t.Address, len(e.Zone.Servers()))})
		}
		text := left[0].Server + " says " + left[0].Says
		if text != said {
			said = text
			if err := e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: "waiting: " + left[0].String()}); err != nil {
				return err
			}
		}
		if err := pause(ctx, min(max(left[0].Left/4, 50*time.Millisecond), time.Second)); err != nil {
			return fmt.Errorf("%w: %s", err, left[0])
		}
	}
}

// askByName asks the service as its users do: by its name, at the port that the name tells.
func (e *Engine) askByName(ctx context.Context, s *plan.Step) error {
	asked := e.Zone.Servers()
	for {
		address, port, _, err := e.Zone.Ask(ctx, asked[len(asked)-1], s.Naming.Name, s.Naming.Ask)
		said, good := fmt.Sprint(err), false
		if err == nil {
			said, good = Ask(ctx, plan.Condition{Kind: plan.CheckHTTP, Path: s.Naming.Path}, net.JoinHostPort(address, strconv.Itoa(port)))
			said += " · asked as " + strings.TrimSuffix(e.Zone.FQDN(s.Naming.Name), ".")
		}
		if err := e.record(run.Event{Kind: run.Answered, Resource: s.Resource, Text: said, Good: good}); err != nil || good {
			return err
		}
		if err := pause(ctx, 100*time.Millisecond); err != nil {
			return err
		}
	}
}
