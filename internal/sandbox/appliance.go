package sandbox

import (
	"errors"
	"net"
	"net/http"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/sandbox/disk"
	"andamio/internal/sandbox/host"
	"andamio/internal/site/occi/wire"
)

// appliance is a load balancer that the cloud runs itself, in the place of an instance: nobody logs in to it, nothing is attached to it, and it does not move.
type appliance struct{ *host.Balancer }

func (appliance) User() string    { return "" }
func (appliance) HostKey() string { return "" }
func (appliance) Attach(string, string, *disk.Disk) error {
	return errors.New("nothing is attached to what the site runs itself")
}
func (appliance) Detach(string, *disk.Disk) error { return nil }
func (appliance) Sync(*disk.Disk)                 {}
func (appliance) Suspend() error {
	return errors.New("what the site runs itself does not stand still")
}
func (appliance) Resume() error              { return nil }
func (appliance) Lead(func(port int) string) {}
func (appliance) Shut()                      {}
func (appliance) Programs() []host.Program   { return nil }
func (appliance) Start([]host.Program) error { return nil }
func (appliance) Watch(func())               {}
func (appliance) Disconnect() int            { return 0 }

// loadBalancer is what a cloud may run itself, as sites call it.
const loadBalancer = "load-balancer"

// service is what a compute thing is that the site runs itself, such as a load balancer; "" is an instance.
func (t *thing) service() string {
	for _, m := range t.Mixins {
		if name, is := strings.CutPrefix(m, wire.OwnAppliances); is && t.term == "compute" {
			return name
		}
	}
	return ""
}

// reserveAppliance refuses what the site does not run, and takes nothing of its rooms.
func (c *Cloud) reserveAppliance(t *thing) *refusal {
	if _, offered := c.site.Appliances[t.service()]; !offered || t.service() != loadBalancer {
		return no(http.StatusBadRequest, "the site runs no %q itself", t.service())
	}
	return c.takeRoom(t, estate.Capacity{})
}

// bootAppliance makes what the site runs itself real, as it was told last.
func (c *Cloud) bootAppliance(t *thing) *refusal {
	b := host.NewBalancer()
	t.host = appliance{b}
	if err := b.Tell(balancing(t)); err != nil {
		return no(0, "%v", err)
	}
	return nil
}

// balances are the attributes that a load balancer is told by.
var balances = []string{wire.BalancePort, wire.BalanceProtocol, wire.BalanceAlgorithm, wire.BalanceLook}

// balance tells a load balancer what to do, and of members.
func (c *Cloud) balance(t *thing, want map[string]any) *refusal {
	said := false
	for name, v := range want {
		member := strings.HasPrefix(name, wire.BalanceMember)
		if !member && !slices.Contains(balances, name) {
			continue
		}
		if t.service() != loadBalancer {
			return no(http.StatusBadRequest, "only load balancers balance")
		}
		if _, _, err := net.SplitHostPort(word(v)); member && word(v) != "" && err != nil {
			return no(http.StatusBadRequest, "%s: %q is no address with a port", name, word(v))
		}
		if port := number(v); name == wire.BalancePort && (port < 1 || port > 65535) {
			return no(http.StatusBadRequest, "%v is no port", v)
		}
		said = true
	}
	if !said {
		return nil
	}
	for name, v := range want {
		switch {
		case slices.Contains(balances, name):
			t.Attributes[name] = v
		case strings.HasPrefix(name, wire.BalanceMember) && word(v) == "":
			delete(t.Attributes, name)
		case strings.HasPrefix(name, wire.BalanceMember):
			t.Attributes[name] = word(v)
		}
	}
	if b, is := t.host.(appliance); is {
		if err := b.Tell(balancing(t)); err != nil {
			return no(http.StatusConflict, "%v", err)
		}
	}
	return nil
}

// balancing is what a load balancer was told.
func balancing(t *thing) host.Told {
	out := host.Told{Port: int(number(t.Attributes[wire.BalancePort])), Protocol: word(t.Attributes[wire.BalanceProtocol]), Algorithm: word(t.Attributes[wire.BalanceAlgorithm]),
		Look: word(t.Attributes[wire.BalanceLook]), Members: map[string]string{}}
	for name, v := range t.Attributes {
		if member, is := strings.CutPrefix(name, wire.BalanceMember); is {
			out.Members[member] = word(v)
		}
	}
	return out
}
