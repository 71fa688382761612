package alarm

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/printable"
)

// Alert is one cause with all that fails because of it, for as long as it does.
type Alert struct {
	ID int64 `json:"id"`
	// Cause is the thing (measure.Thing) or the host or zone that explains it all; Rank, Name and Site say which, the others to whom it belongs.
	Cause      string `json:"cause"`
	Rank       string `json:"rank"`
	Name       string `json:"name"`
	Site       string `json:"site,omitempty"`
	Deployment int64  `json:"deployment,omitempty"`
	Of         string `json:"of,omitempty"`
	Resource   string `json:"resource,omitempty"`
	// Deployments are those that something of fails.
	Deployments []int64 `json:"deployments,omitempty"`
	// Inferred says that nothing was measured of the cause itself: all that it carries fails.
	Inferred bool     `json:"inferred,omitempty"`
	Severity Severity `json:"severity"`
	// Words say what is wrong.
	Words string    `json:"words"`
	Since time.Time `json:"since"`
	// Ended is zero while it goes on.
	Ended time.Time `json:"ended,omitzero"`
	// Waits says that a run works on what it is of: whether it is over is seen after that.
	Waits bool `json:"waits,omitempty"`
	// Into is the alert that this one turned out to be a part of.
	Into int64 `json:"into,omitempty"`
	// Alarms are what is over now; when it has ended, what was over last. Below is how many of them are not of the cause itself.
	Alarms []Alarm `json:"alarms,omitempty"`
	Below  int     `json:"below,omitempty"`
	// Down are services of which a whole tier fails, Weakened others that something fails of.
	Down     []string `json:"down,omitempty"`
	Weakened []string `json:"weakened,omitempty"`
	// Known is who has seen it and sees to it; Muted until when nobody is told, and why.
	Known *Said `json:"acknowledged,omitempty"`
	Muted *Said `json:"silenced,omitempty"`
}

// Said is what somebody said of an alert.
type Said struct {
	By    string    `json:"by"`
	At    time.Time `json:"at"`
	Until time.Time `json:"until,omitzero"`
	Say   string    `json:"say,omitempty"`
}

// MostKept is how many alarms of an alert are kept: one of a site may have thousands, and the worst say enough.
const MostKept = 200

// Kept is an alert as it is kept.
func (a *Alert) Kept() Alert {
	out := *a
	out.Alarms = a.Alarms[:min(len(a.Alarms), MostKept)]
	return out
}

// Quiet reports that nobody is to be told of it now.
func (a *Alert) Quiet(now time.Time) bool { return a.Muted != nil && now.Before(a.Muted.Until) }

// Title says in a few words what it is.
func (a *Alert) Title() string {
	switch {
	case a.Rank == Self.Word():
		return "Andamio itself"
	case a.Rank == Whole.Word():
		return a.Name
	case a.Rank == Site.Word(), a.Site == "":
		return a.Rank + " " + a.Name
	}
	return fmt.Sprintf("%s %s at %s", a.Rank, a.Name, a.Site)
}

// Hits says whom it hits, in words.
func (a *Alert) Hits() string {
	var out []string
	if len(a.Down) > 0 {
		out = append(out, "takes down "+strings.Join(a.Down, ", "))
	}
	if len(a.Weakened) > 0 {
		out = append(out, "weakens "+strings.Join(a.Weakened, ", "))
	}
	if a.Below > 0 {
		out = append(out, printable.Count(a.Below, "alarm")+" silent below it")
	}
	return strings.Join(out, " · ")
}

// Book are the alerts that go on, and their numbers.
type Book struct {
	Open []*Alert
	// Last is the last number that was given.
	Last int64
	// Waits says of a thing that a run works on it, or that it is not known yet how it is after one: an alert of it goes on meanwhile. It may be nil.
	Waits func(thing string) bool
}

// waits reports that an alert of which nothing is over any more waits for how things are after a run.
func (b *Book) waits(a *Alert) bool {
	return b.Waits != nil && slices.ContainsFunc(a.Alarms, func(x Alarm) bool { return b.Waits(x.Thing) })
}

// Sort sorts alerts: those of which people are told and nobody sees to first, then those that take services down, then the worst, then the oldest.
func Sort(all []Alert) {
	slices.SortStableFunc(all, func(a, b Alert) int {
		seen := func(x *Alert) int {
			switch {
			case x.Muted != nil:
				return 2
			case x.Known != nil:
				return 1
			}
			return 0
		}
		return cmp.Or(cmp.Compare(seen(&a), seen(&b)), -cmp.Compare(min(len(a.Down), 1), min(len(b.Down), 1)), -cmp.Compare(a.Severity, b.Severity), a.Since.Compare(b.Since), cmp.Compare(a.ID, b.ID))
	})
}

// Changes are what became of alerts in a step.
type Changes struct{ Opened, Changed, Ended []*Alert }

// Step takes the causes of a moment. An alert goes on as long as something of it does, and is of the deepest cause that ever explained it: what comes late of the same, and
// what recovers one after another, makes no other. Two that turn out to be one are one, the older.
func (b *Book) Step(g *Graph, causes []Cause, now time.Time) Changes {
	var out Changes
	owners := b.owners()
	next := map[*Alert]*Alert{}
	var fresh []*Alert
	for i := range causes {
		c := &causes[i]
		a := b.of(c, owners)
		if a == nil {
			b.Last++
			a = &Alert{ID: b.Last, Since: c.began(now)}
			b.Open, fresh = append(b.Open, a), append(fresh, a)
		}
		if next[a] == nil {
			next[a] = &Alert{ID: a.ID, Since: a.Since, Known: a.Known, Muted: a.Muted}
		}
		next[a].take(g, c, a)
	}
	var open []*Alert
	with := owned(next)
	for _, a := range b.Open {
		n := next[a]
		if n != nil {
			n.tell(g)
		}
		switch {
		case n == nil && b.waits(a) && !intoAnother(a, with):
			if !a.Waits {
				a.Waits = true
				out.Changed = append(out.Changed, a)
			}
			open = append(open, a)
			continue
		case n == nil:
			a.Ended, a.Waits = now, false
			for i := range a.Alarms {
				if into := with[a.Alarms[i].key()]; into != nil { // it turned out to be a part of another
					a.Into = into.ID
					break
				}
			}
			out.Ended = append(out.Ended, a)
			continue
		case slices.Contains(fresh, a):
			out.Opened = append(out.Opened, a)
		case !n.like(a):
			out.Changed = append(out.Changed, a)
		}
		*a = *n
		open = append(open, a)
	}
	b.Open = open
	return out
}

// intoAnother reports that something that was over of an alert is over of another one now.
func intoAnother(a *Alert, with map[string]*Alert) bool {
	return slices.ContainsFunc(a.Alarms, func(x Alarm) bool { return with[x.key()] != nil })
}

// owners are the open alerts by what is over of them, and by their causes; the oldest where several have it.
func (b *Book) owners() map[string]*Alert {
	out := map[string]*Alert{}
	have := func(key string, a *Alert) {
		if was := out[key]; was == nil || a.older(was) {
			out[key] = a
		}
	}
	for _, a := range b.Open {
		have(a.Cause, a)
		for i := range a.Alarms {
			have(a.Alarms[i].key(), a)
		}
	}
	return out
}

// older orders alerts by their age.
func (a *Alert) older(b *Alert) bool {
	return a.Since.Before(b.Since) || a.Since.Equal(b.Since) && a.ID < b.ID
}

// owned are alerts as they are next, by what is over of them.
func owned(next map[*Alert]*Alert) map[string]*Alert {
	out := map[string]*Alert{}
	for _, n := range next {
		for i := range n.Alarms {
			out[n.Alarms[i].key()] = n
		}
	}
	return out
}

// of is the open alert that a cause belongs to, the oldest of several; nil if it is new.
func (b *Book) of(c *Cause, owners map[string]*Alert) *Alert {
	out := owners[c.Node.ID]
	for i := range c.Alarms {
		if a := owners[c.Alarms[i].key()]; a != nil && (out == nil || a.older(out)) {
			out = a
		}
	}
	return out
}

// began is when the first of a cause was over.
func (c *Cause) began(now time.Time) time.Time {
	out := now
	for i := range c.Alarms {
		if at := c.Alarms[i].Since; at.Before(out) {
			out = at
		}
	}
	return out
}

// deeper reports that a node explains more than the cause of an alert: it carries that, or is a part of it.
func (g *Graph) deeper(n *Node, than *Alert) bool {
	return than.Rank == Whole.Word() && n.Rank != Whole || g.isUnder(n.ID, than.Cause)
}

// take adds a cause to what an alert is now. The deepest cause stays: that of before, or of those now.
func (a *Alert) take(g *Graph, c *Cause, before *Alert) {
	if a.Cause == "" && before.Cause != "" && before.Cause != c.Node.ID && !g.deeper(c.Node, before) {
		a.Cause, a.Rank, a.Name, a.Site, a.Deployment, a.Of, a.Resource, a.Inferred = before.Cause, before.Rank, before.Name, before.Site, before.Deployment, before.Of, before.Resource, before.Inferred
	}
	if n := c.Node; a.Cause == "" || a.Cause != n.ID && g.deeper(n, a) {
		a.Cause, a.Rank, a.Name, a.Site, a.Deployment, a.Of, a.Resource, a.Inferred = n.ID, n.Rank.Word(), n.Name, n.Site, n.Deployment, n.Of, n.Resource, c.Inferred
	}
	a.Alarms = append(a.Alarms, c.Alarms...)
	a.Severity = max(a.Severity, c.Severity())
}

// tell works out what is said of an alert from what is over.
func (a *Alert) tell(g *Graph) {
	c := Cause{Node: &Node{ID: a.Cause}, Alarms: a.Alarms}
	c.sort()
	a.Words = a.Alarms[0].Words
	if own := a.Alarms[0].Thing == a.Cause; !own {
		a.Inferred = true
		a.Words = "all that stands on it and was asked fails"
		if a.Rank == Endpoint.Word() || a.Rank == Part.Word() || len(a.Alarms) == 1 {
			a.Words = a.Alarms[0].Name + ": " + a.Alarms[0].Words
		}
	} else {
		a.Inferred = false
	}
	if a.Alarms[0].Flaps {
		a.Words += ", again and again"
	}
	a.Below = 0
	for i := range a.Alarms {
		if a.Alarms[i].Thing != a.Cause {
			a.Below++
		}
	}
	a.Down, a.Weakened = g.services(a.Alarms)
	a.Deployments = g.deployments(a.Alarms)
}

// like reports that nothing is other that anybody would want to know of.
func (a *Alert) like(b *Alert) bool {
	return a.Cause == b.Cause && a.Severity == b.Severity && a.Waits == b.Waits && len(a.Alarms) == len(b.Alarms) && slices.EqualFunc(a.Alarms, b.Alarms, func(x, y Alarm) bool {
		return x.key() == y.key() && x.Severity == y.Severity && x.Flaps == y.Flaps
	})
}

// services are those of which a whole group fails, and those that lose something.
func (g *Graph) services(alarms []Alarm) (down, weakened []string) {
	over := map[string]bool{}
	hit := map[string]bool{}
	for i := range alarms {
		a := &alarms[i]
		n := g.of(a)
		if n.Rank == Site || a.Severity == Unknown { // that nobody can ask takes nothing away from what runs there: whether that answers is known by itself
			continue
		}
		for _, below := range g.under(n.ID) { // an endpoint is the service's of what answers there
			if below.Service != "" {
				hit[below.Service] = true
			}
		}
		if a.stops() {
			over[n.ID] = true
		}
		for _, s := range g.above(n.ID) {
			if s.Service != "" {
				hit[s.Service] = true
			}
			if a.stops() && n.Rank >= Instance {
				over[s.ID] = true
			}
		}
	}
	whole := map[string]bool{}
	for _, members := range g.groups {
		service, all := "", true
		for _, id := range members {
			n := g.nodes[id]
			service = cmp.Or(n.Service, service)
			all = all && g.out(id, over)
		}
		if all && service != "" {
			whole[service] = true
		}
	}
	for s := range hit {
		if whole[s] {
			down = append(down, s)
		} else {
			weakened = append(weakened, s)
		}
	}
	slices.Sort(down)
	slices.Sort(weakened)
	return down, weakened
}

// deployments are those of which something is over.
func (g *Graph) deployments(alarms []Alarm) (out []int64) {
	for i := range alarms {
		if d := g.of(&alarms[i]).Deployment; d != 0 && !slices.Contains(out, d) {
			out = append(out, d)
		}
	}
	slices.Sort(out)
	return out
}

// out reports that a part does not do what it is for: it is over itself, or every endpoint of it is.
func (g *Graph) out(id string, over map[string]bool) bool {
	if over[id] {
		return true
	}
	all := g.carries[id]
	for _, above := range all {
		if !over[above] {
			return false
		}
	}
	return len(all) > 0
}

// above are all that a node carries, at whatever height.
func (g *Graph) above(id string) []*Node {
	seen := map[string]bool{id: true}
	var out []*Node
	for next := []string{id}; len(next) > 0; next = next[1:] {
		for _, up := range g.carries[next[0]] {
			if !seen[up] {
				seen[up] = true
				next = append(next, up)
				if n := g.nodes[up]; n != nil {
					out = append(out, n)
				}
			}
		}
	}
	return out
}
