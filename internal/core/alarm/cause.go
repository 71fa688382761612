package alarm

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/measure"
)

// Alarm is a measure of a thing that is over its threshold now.
type Alarm struct {
	Thing string       `json:"thing"`
	Kind  measure.Kind `json:"kind"`
	Name  string       `json:"name"`
	// Threshold is its name, Line where it stands in its file.
	Threshold string    `json:"threshold"`
	Line      int       `json:"line,omitempty"`
	Shipped   bool      `json:"shipped,omitempty"`
	Measure   string    `json:"measure"`
	Severity  Severity  `json:"severity"`
	Since     time.Time `json:"since"`
	Words     string    `json:"words"`
	Flaps     bool      `json:"flaps,omitempty"`
	// Reached says that it answered, and wrongly: what carries it is there.
	Reached bool `json:"reached,omitempty"`
}

// key names what is over: a thing and a threshold.
func (a *Alarm) key() string { return a.Thing + "\x00" + a.Threshold }

// stops reports that the thing does not do what it is for, or that nobody knows whether it does.
func (a *Alarm) stops() bool {
	return measure.Of(a.Measure).Unit == measure.State || a.Severity == Unknown
}

// explains reports that what stands on the thing may fail because of it: it is not there, or has nothing left of something.
func (a *Alarm) explains() bool {
	return a.stops() || a.Severity == Critical && measure.Of(a.Measure).Limit != ""
}

// follows reports that it may be over because of something below it. The end of a certificate and what lies ahead are not.
func (a *Alarm) follows() bool {
	return a.stops() || a.Measure == measure.AnswerTime
}

// Cause is what explains alarms: the deepest thing that does.
type Cause struct {
	Node *Node
	// Alarms are all that hang on it: first those of the thing itself, then the worst and oldest.
	Alarms []Alarm
	// Inferred says that nothing was measured of it: all that it carries fails.
	Inferred bool
}

// finder looks for the causes of alarms at one moment.
type finder struct {
	g  *Graph
	by map[string][]*Alarm
	// hits is what is known of whether a node fails, by what counts, roots which cause a thing has.
	hits   [3]map[string]hit
	wholes map[string]bool
	roots  map[string]*Node
}

// counts is what counts as failing: whoever is not reached, whoever does not do what it is for, or whoever is slow too.
type counts int

const (
	unreached counts = iota
	stopped
	slow
)

func (c counts) are(a *Alarm) bool {
	switch c {
	case unreached:
		return a.stops() && !a.Reached
	case stopped:
		return a.stops()
	}
	return a.stops() || a.Measure == measure.AnswerTime
}

// any reports that something counts of what is over of a node.
func (f *finder) any(id string, c counts) bool { return slices.ContainsFunc(f.by[id], c.are) }

// hit is whether something fails.
type hit int

const (
	notAsked hit = iota
	asking
	// neutral is what nothing speaks for or against.
	neutral
	stands
	fails
)

// Find gathers alarms by their causes, the worst first.
func Find(g *Graph, alarms []Alarm) []Cause {
	f := &finder{g: g, by: map[string][]*Alarm{}, hits: [3]map[string]hit{{}, {}, {}}, wholes: map[string]bool{}, roots: map[string]*Node{}}
	for i := range alarms {
		f.by[alarms[i].Thing] = append(f.by[alarms[i].Thing], &alarms[i])
	}
	causes := map[string]*Cause{}
	for _, thing := range slices.Sorted(maps.Keys(f.by)) {
		for _, a := range f.by[thing] {
			node := f.cause(a)
			c := causes[node.ID]
			if c == nil {
				c = &Cause{Node: node, Inferred: len(f.by[node.ID]) == 0}
				causes[node.ID] = c
			}
			c.Alarms = append(c.Alarms, *a)
		}
	}
	out := make([]Cause, 0, len(causes))
	for _, c := range causes {
		c.sort()
		out = append(out, *c)
	}
	slices.SortFunc(out, func(a, b Cause) int {
		return cmp.Or(-cmp.Compare(a.Severity(), b.Severity()), -cmp.Compare(a.Node.Rank, b.Node.Rank), cmp.Compare(a.Node.ID, b.Node.ID))
	})
	return out
}

// cause is the node that explains an alarm.
func (f *finder) cause(a *Alarm) *Node {
	node := f.g.of(a)
	if node.Rank == Whole {
		if part := f.part(node, a); part != nil {
			return f.cause(part)
		}
	}
	if a.follows() {
		return f.root(a.Thing, node, map[string]bool{})
	}
	return node
}

// part is the alarm of something that a whole is made of by which the whole is over: the worst of them; nil if there is none.
func (f *finder) part(whole *Node, a *Alarm) (worst *Alarm) {
	for _, id := range whole.Holds {
		for _, x := range f.by[id] {
			if x.tells(a) && (worst == nil || x.Severity > worst.Severity) {
				worst = x
			}
		}
	}
	return worst
}

// tells reports that a whole is over because one of its parts is: by the same measure, or because the part does nothing.
func (a *Alarm) tells(whole *Alarm) bool {
	return measure.Wholes[a.Measure] == whole.Measure || a.stops() && (whole.Measure == measure.WholeAnswers || whole.Measure == measure.WholeOn)
}

func (c *Cause) sort() {
	slices.SortFunc(c.Alarms, func(a, b Alarm) int {
		own := func(x *Alarm) int {
			if x.Thing == c.Node.ID {
				return 0
			}
			return 1
		}
		return cmp.Or(cmp.Compare(own(&a), own(&b)), -cmp.Compare(a.Severity, b.Severity), a.Since.Compare(b.Since), strings.Compare(a.key(), b.key()))
	})
}

// Severity is the worst of what hangs on a cause.
func (c *Cause) Severity() Severity {
	worst := Well
	for i := range c.Alarms {
		worst = max(worst, c.Alarms[i].Severity)
	}
	return worst
}

// root is the cause of a thing that is over.
func (f *finder) root(id string, node *Node, on map[string]bool) *Node {
	if known := f.roots[id]; known != nil {
		return known
	}
	if on[id] { // things that need each other in a ring: the first of them is as good as any
		return node
	}
	on[id] = true
	out := node
	below := f.g.under(id)
	for _, n := range below { // the deepest counts
		if n.ID != id && (f.explained(n.ID) || n.Rank >= Part && f.whole(n)) {
			out = n
		}
	}
	if out == node {
		if needed := f.needed(below, on); needed != nil {
			out = needed
		}
	}
	f.roots[id] = out
	return out
}

// explained reports that something measured of a node explains what stands on it.
func (f *finder) explained(id string) bool {
	return slices.ContainsFunc(f.by[id], (*Alarm).explains)
}

// needed is the cause of a group that all fails and that something on the way down talks to. What is slow is so for what is slow, too.
func (f *finder) needed(below []*Node, on map[string]bool) *Node {
	if len(below) == 0 {
		return nil
	}
	c := slow
	if f.any(below[0].ID, stopped) {
		c = stopped
	}
	for _, n := range below {
		for _, group := range n.Needs {
			members := f.g.groups[group]
			if len(members) == 0 || slices.ContainsFunc(members, func(id string) bool { return f.hit(id, c) != fails || on[id] }) {
				continue
			}
			return f.rootOf(members[0], c, on)
		}
	}
	return nil
}

// rootOf is the cause of a node that fails, which may have no alarm itself: that of what it stands on, or of what stands on it, then.
func (f *finder) rootOf(id string, c counts, on map[string]bool) *Node {
	node := f.g.nodes[id]
	if len(f.by[id]) > 0 {
		return f.root(id, node, on)
	}
	for _, n := range f.g.under(id) {
		if n.ID != id && f.explained(n.ID) {
			return f.root(n.ID, n, on)
		}
	}
	for _, above := range f.g.carries[id] {
		if f.hit(above, c) == fails {
			return f.rootOf(above, c, on)
		}
	}
	return node
}

// hit says whether a node fails: it says so itself, what carries it does, or all that it carries and is asked.
func (f *finder) hit(id string, c counts) hit {
	if h := f.hits[c][id]; h != notAsked {
		if h == asking {
			return neutral
		}
		return h
	}
	f.hits[c][id] = asking
	h := f.judge(f.g.nodes[id], c)
	f.hits[c][id] = h
	return h
}

func (f *finder) judge(n *Node, c counts) hit {
	switch {
	case n == nil:
		return neutral
	case f.any(n.ID, c):
		return fails
	case n.Rank == Endpoint && f.any(n.ID, slow): // it is not as it should be, and is there
		return neutral
	case n.Rank == Endpoint:
		return stands
	}
	for _, on := range n.On {
		if f.any(on, c) {
			return fails
		}
	}
	out := neutral
	for _, above := range f.g.carries[n.ID] {
		switch f.hit(above, c) {
		case stands:
			return stands
		case fails:
			out = fails
		}
	}
	return out
}

// whole reports that a node is the cause though it says nothing of it: two things that it carries, or more, are not reached, and none is.
func (f *finder) whole(n *Node) bool {
	known, is := f.wholes[n.ID]
	if !is {
		known = f.allFail(n)
		f.wholes[n.ID] = known
	}
	return known
}

func (f *finder) allFail(n *Node) bool {
	failing := 0
	for _, above := range f.g.carries[n.ID] {
		switch f.hit(above, unreached) {
		case stands:
			return false
		case fails:
			failing++
		}
	}
	return failing >= 2
}
