package engine

import (
	"context"
	"fmt"
	"net"
	"strconv"

	"andamio/internal/core/plan"
	"andamio/internal/site"
)

// release gives up an interface's address, and has connections that still come to it led elsewhere.
func (e *Engine) release(ctx context.Context, s *plan.Step, r *plan.Resource) error {
	id, err := e.siteIDOf(s, r)
	if err != nil {
		return err
	}
	lead, err := e.lead(s)
	if err != nil {
		return err
	}
	m, ok := site.Can[site.Releaser](ctx, e.Sites[s.Site])
	if !ok {
		return site.Final(fmt.Errorf("%s cannot keep an address for later", s.Site))
	}
	return e.call(ctx, s, func() error { return m.Release(ctx, id, lead) })
}

// lead says where connections to a released interface go, port by port.
func (e *Engine) lead(s *plan.Step) (map[string]string, error) {
	if s.Lead == "" {
		return nil, nil
	}
	out := map[string]string{}
	address, ok := e.Attribute(s.Lead, site.AttrAddress)
	if !ok {
		return nil, fmt.Errorf("where %s is reached is not known", s.Lead)
	}
	for _, port := range append([]int{22}, e.Plan.Resource(s.Lead).AsInterface().Ports...) {
		if mapped, ok := e.Attribute(s.Lead, site.AttrPort+strconv.Itoa(port)); ok {
			out[strconv.Itoa(port)] = net.JoinHostPort(address, mapped)
		}
	}
	return out, nil
}
