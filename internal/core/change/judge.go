package change

import (
	"encoding/json"
	"fmt"
	"iter"
	"slices"
	"strings"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// judge says of each resource by itself what becomes of it.
func (c *compiler) judge() {
	for i := range c.to.Resources {
		r := &c.to.Resources[i]
		before := c.old.Resource(r.ID)
		if r.Kind == kinds.Action {
			continue // see deeds
		}
		if before == nil {
			c.set(r.ID, plan.Build)
			why := "it does not stand yet"
			if on := c.to.Resource(instanceOf(c.to, r)); on != nil && on.Off && len(c.stepsOf[r.ID]) == 0 {
				why = "it is built when its instance is switched on"
			}
			c.because(r.ID, "%s", why)
			continue
		}
		c.set(r.ID, plan.Keep)
		c.compare(before, r)
	}
	for i := range c.old.Resources {
		if id := c.old.Resources[i].ID; c.to.Resource(id) == nil {
			c.set(id, plan.Retire)
			c.because(id, "it is no longer wanted")
		}
	}
}

// goOn has what is suspended go on where it was when it is switched on, instead of being started.
func (c *compiler) goOn() {
	for i := range c.old.Resources {
		if r := &c.old.Resources[i]; r.Suspended && !c.halt[r.ID] {
			delete(c.boot, r.ID)
		}
	}
}

// redoActions has every action done anew, if anything changes at all.
func (c *compiler) redoActions() {
	work := len(c.redo)+len(c.undo)+len(c.halt)+len(c.boot)+len(c.alter) > 0
	for i := range c.to.Resources {
		r := &c.to.Resources[i]
		if r.Kind != kinds.Action {
			continue
		}
		if !work {
			c.set(r.ID, plan.Keep)
			continue
		}
		c.set(r.ID, plan.Build)
		c.because(r.ID, "it is done with every change")
		c.all(r.ID)
	}
}

// compare judges a resource that stands and is wanted.
func (c *compiler) compare(a, b *plan.Resource) {
	all := specDifferences(a, b)
	if c.from.Unsure[alterOf(b.ID)] {
		all = append(all, specDifference{"whether it was changed is not known", true})
	}
	for _, d := range all {
		v := plan.Rebuild
		if d.inPlace {
			v = plan.Amend
			c.alter[b.ID] = true
			if b.Kind == kinds.Instance && !a.Off {
				c.halt[b.ID], c.boot[b.ID] = true, !b.Off
			}
		}
		c.set(b.ID, v)
		c.because(b.ID, "%s", d.text)
	}
	if a.Off != b.Off {
		c.set(b.ID, plan.Amend)
		c.halt[b.ID], c.boot[b.ID] = b.Off, !b.Off
		c.because(b.ID, "it is to be switched %s", map[bool]string{true: "off", false: "on"}[b.Off])
	}
	if c.from.Unsure[haltOf(b.ID)] && b.Off {
		c.set(b.ID, plan.Amend)
		c.because(b.ID, "whether it is off is not known")
	}
	c.compareSteps(b.ID)
}

// compareSteps finds the steps of a resource that do not stand or stand otherwise.
func (c *compiler) compareSteps(id string) {
	for _, s := range c.stepsOf[id] {
		before := c.old.Step(s.ID)
		switch {
		case before == nil:
			c.again(s, "%s has not been done", s.Title)
		case c.from.Unsure[s.ID] && s.Op == op.Create:
			c.set(id, plan.Rebuild)
			c.because(id, "how far it was built is not known")
		case c.from.Unsure[s.ID]:
			c.again(s, "%s did not end well", s.Title)
		default:
			if text := stepDifference(c.old, before, c.to, s); text != "" {
				c.again(s, "%s", text)
			}
		}
	}
	for _, s := range c.oldSteps[id] {
		if s.Op == op.Fill { // what was written stays written
			continue
		}
		if c.to.Step(s.ID) == nil && !c.undo[s.ID] {
			c.undo[s.ID] = true
			c.set(id, plan.Amend)
			c.because(id, "%s", c.unwanted(s))
		}
	}
}

// unwanted says why a standing step is not wanted any more.
func (c *compiler) unwanted(s *plan.Step) string {
	if r := c.to.Resource(s.Resource); s.Op == op.Answer && r != nil && !rests(c.to, instanceOf(c.to, r)) {
		return "all that it leads to is off: nothing asks it"
	}
	return s.Title + " is no longer wanted"
}

// again marks a wanted step for being run.
func (c *compiler) again(s *plan.Step, format string, args ...any) bool {
	if c.redo[s.ID] {
		return false
	}
	c.redo[s.ID] = true
	c.set(s.Resource, plan.Amend)
	c.because(s.Resource, format, args...)
	return true
}

// specDifference is one difference in what a site is asked for; inPlace says that the site can change it as it stands.
type specDifference struct {
	text    string
	inPlace bool
}

// specDifferences compares what two resources of one id ask of a site.
func specDifferences(a, b *plan.Resource) []specDifference {
	var out []specDifference
	say := func(inPlace bool, what string, from, to any) {
		if from != to {
			out = append(out, specDifference{fmt.Sprintf("%s %v → %v", what, orNone(from), orNone(to)), inPlace})
		}
	}
	say(false, "kind", a.Kind, b.Kind)
	say(false, "site", a.Site, b.Site)
	switch b.Kind {
	case kinds.Instance:
		x, y := a.AsInstance(), b.AsInstance()
		say(false, "zone", a.Zone, b.Zone)
		say(false, "host", a.Host, b.Host)
		say(false, "host name", x.Hostname, y.Hostname)
		say(false, "image", x.Image, y.Image)
		say(false, "service of the site's own", x.Appliance, y.Appliance)
		say(true, "size", x.Size, y.Size)
		say(true, "cores", x.Cores, y.Cores)
		say(true, "memory GiB", x.MemoryGiB, y.MemoryGiB)
		say(y.DiskGiB >= x.DiskGiB, "disk GiB", x.DiskGiB, y.DiskGiB)
	case kinds.Volume:
		x, y := a.AsVolume(), b.AsVolume()
		say(false, "zone", a.Zone, b.Zone)
		say(y.DiskGiB >= x.DiskGiB, "size GiB", x.DiskGiB, y.DiskGiB)
	case kinds.Network:
		x, y := a.AsNetwork(), b.AsNetwork()
		say(false, "name", x.Label, y.Label)
		say(false, "addresses", x.CIDR, y.CIDR)
		say(false, "VLAN", x.VLAN, y.VLAN)
		say(false, "standing network", x.Existing, y.Existing)
	case kinds.Interface:
		x, y := a.AsInterface(), b.AsInterface()
		say(false, "network", x.Network, y.Network)
		say(false, "instance", x.Instance, y.Instance)
		say(false, "address", x.Address, y.Address)
		say(false, "ports", fmt.Sprint(x.Ports), fmt.Sprint(y.Ports))
	case kinds.Snapshot:
		say(false, "disk", a.AsSnapshot().Of, b.AsSnapshot().Of)
	case kinds.Software:
		say(false, "instance", a.On, b.On)
	}
	return out
}

func orNone(v any) any {
	if v == "" {
		return "none"
	}
	return v
}

// stepDifference says in what a wanted step differs from the standing one; "" if in nothing that matters.
func stepDifference(old *plan.Plan, a *plan.Step, now *plan.Plan, b *plan.Step) string {
	switch {
	case (a.Script == nil) != (b.Script == nil):
		return b.Title + " has another operation"
	case a.Script != nil && old.Scripts[a.Script.Path] != now.Scripts[b.Script.Path]:
		return fmt.Sprintf("the script %s has changed", b.Script.Path)
	case a.Script != nil:
		if text := scriptDifference(old, a.Script, now, b.Script); text != "" {
			return text
		}
	}
	if !equal(a.Check, b.Check) {
		return b.Title + " asks otherwise"
	}
	if a.Location != b.Location || a.Volume != b.Volume || !equal(a.Action, b.Action) || !equal(a.Balancing, b.Balancing) || !equal(a.Member, b.Member) || !sameNaming(a.Naming, b.Naming) {
		return b.Title + " is otherwise"
	}
	return ""
}

// sameNaming reports that two steps publish the same; what is asked then is no difference.
func sameNaming(a, b *plan.Naming) bool {
	if a == nil || b == nil {
		return a == b
	}
	x, y := *a, *b
	x.Ask, x.Path, y.Ask, y.Path = "", "", "", ""
	return equal(x, y)
}

func scriptDifference(old *plan.Plan, a *plan.Script, now *plan.Plan, b *plan.Script) string {
	before := map[string]plan.Expr{}
	for _, in := range a.Inputs {
		before[in.Name] = in.Value
	}
	var names []string
	for _, in := range b.Inputs {
		if v, had := before[in.Name]; !had || !equal(v, in.Value) {
			names = append(names, in.Name)
		}
		delete(before, in.Name)
	}
	for name := range before {
		names = append(names, name)
	}
	if len(names) > 0 {
		slices.Sort(names)
		return "its inputs have changed: " + strings.Join(names, ", ")
	}
	for _, f := range b.Files {
		if string(old.Files[f.File]) != string(now.Files[f.File]) {
			return fmt.Sprintf("the file %s has changed", f.File)
		}
	}
	if !equal(a.Outputs, b.Outputs) {
		return "its outputs have changed"
	}
	return ""
}

func equal(a, b any) bool {
	x, errX := json.Marshal(a)
	y, errY := json.Marshal(b)
	return errX == nil && errY == nil && string(x) == string(y)
}

// attributesOf are the resources whose attributes a step is given, its own and those of its instance included where it
// logs in.
func attributesOf(s *plan.Step) iter.Seq[string] {
	return func(yield func(string) bool) {
		var values []plan.Expr
		if s.Script != nil {
			for _, in := range s.Script.Inputs {
				values = append(values, in.Value)
			}
		}
		if s.Naming != nil && !yield(s.Naming.Interface) {
			return
		}
		if s.Member != nil && s.Op == op.Enroll {
			values = append(values, s.Member.Address, s.Member.Port)
		}
		for _, e := range []*plan.Expr{s.Check.Address, s.Check.Port} {
			if e != nil {
				values = append(values, *e)
			}
		}
		seen := map[string]bool{}
		for _, v := range values {
			for _, r := range v.Resources() {
				if !seen[r] {
					seen[r] = true
					if !yield(r) {
						return
					}
				}
			}
		}
	}
}
