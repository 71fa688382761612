package occi

import (
	"context"
	"net/http"
	"strconv"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/occi/wire"
)

var _ site.Balancer = (*Driver)(nil)

// Balance tells a load balancer of the site's own what to do.
func (d *Driver) Balance(ctx context.Context, id string, b site.Balancing) error {
	return d.balance(ctx, "balance "+id, id, map[string]any{wire.BalancePort: b.Port, wire.BalanceProtocol: b.Protocol, wire.BalanceAlgorithm: b.Algorithm, wire.BalanceLook: b.Look})
}

// Enroll has it hand out to a member.
func (d *Driver) Enroll(ctx context.Context, id string, m site.Member) error {
	return d.balance(ctx, "enroll "+m.Name, id, map[string]any{wire.BalanceMember + m.Name: m.Address + ":" + strconv.Itoa(m.Port)})
}

// Dismiss has it hand out to a member no more.
func (d *Driver) Dismiss(ctx context.Context, id, name string) error {
	return d.balance(ctx, "dismiss "+name, id, map[string]any{wire.BalanceMember + name: ""})
}

func (d *Driver) balance(ctx context.Context, doing, id string, attributes map[string]any) error {
	return d.tell(ctx, doing, kinds.Instance, id, "", wire.Resource{Kind: wire.Compute, Attributes: attributes})
}

// Balances is what one was told.
func (d *Driver) Balances(ctx context.Context, id string) (site.Balancing, map[string]string, error) {
	where, err := d.location(ctx, kinds.Instance, id)
	if err != nil {
		return site.Balancing{}, nil, err
	}
	var w wire.Resource
	if err := d.do(ctx, "read "+id, http.MethodGet, where, nil, nil, &w); err != nil {
		return site.Balancing{}, nil, err
	}
	out := site.Balancing{Protocol: text(w.Attributes[wire.BalanceProtocol]), Algorithm: text(w.Attributes[wire.BalanceAlgorithm]), Look: text(w.Attributes[wire.BalanceLook])}
	out.Port, _ = strconv.Atoi(text(w.Attributes[wire.BalancePort])) // one that was told nothing has none
	members := map[string]string{}
	for name, v := range w.Attributes {
		if member, is := strings.CutPrefix(name, wire.BalanceMember); is && text(v) != "" {
			members[member] = text(v)
		}
	}
	return out, members, nil
}
