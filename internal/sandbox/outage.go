package sandbox

import (
	"errors"

	"andamio/internal/sandbox/host"
	"andamio/internal/site/occi/wire"
)

// Outage is where machines fall without a word: those of a site, of a zone or a host there, or one by its identifier. What is "" bounds nothing.
type Outage struct {
	Site, Zone, Host, ID string
	// Unseen says that the site goes on saying that they run, as where only their network is cut.
	Unseen bool
}

// hits reports that a machine of a site is among those that fall.
func (o Outage) hits(c *Cloud, t *thing) bool {
	is := func(want, have string) bool { return want == "" || want == have }
	return t.term == "compute" && t.host != nil && word(t.Attributes[wire.ComputeWord]) == "active" && is(o.Site, c.site.Name) && is(o.ID, t.ID) &&
		is(o.Zone, word(t.Attributes[wire.OwnZone])) && is(o.Host, word(t.Attributes[wire.OwnHost]))
}

// Fall has machines fall, as when the power of a host, a zone or a site is gone, and returns what has them come back with what ran on them.
func (s *Sandbox) Fall(o Outage) (rise func() error) {
	var back []func() error
	for _, c := range s.clouds() {
		c.mu.Lock()
		for _, id := range c.ids {
			if t := c.things[id]; t != nil && o.hits(c, t) {
				back = append(back, c.fall(t, o.Unseen))
			}
		}
		c.mu.Unlock()
	}
	return func() error {
		var errs []error
		for _, rise := range back {
			errs = append(errs, rise())
		}
		return errors.Join(errs...)
	}
}

// fall has one machine fall, and returns what has it come back.
func (c *Cloud) fall(t *thing, unseen bool) func() error {
	programs := t.host.Programs()
	t.host.Close()
	if !unseen {
		t.Attributes[wire.ComputeState], t.Attributes[wire.ComputeWord] = "inactive", "stopped"
	}
	return func() error { return c.rise(t, programs) }
}

// rise has a machine that fell come back, unless somebody did something about it meanwhile.
func (c *Cloud) rise(t *thing, programs []host.Program) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.things[t.ID] == nil {
		return nil
	}
	if err := c.powerOn(t); err != nil {
		return err
	}
	t.Attributes[wire.ComputeState], t.Attributes[wire.ComputeWord] = "active", "active"
	return t.host.Start(programs)
}
