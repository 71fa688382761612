package sandbox

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/sandbox/host"
	"andamio/internal/site/occi/wire"
)

// Change is what happens to a thing behind everybody's back.
type Change string

// The changes: somebody resizes, deletes, renames, creates, tags by hand, or gives another address.
const (
	Resized   Change = "resized"
	Deleted   Change = "deleted"
	Renamed   Change = "renamed"
	Created   Change = "created"
	Addressed Change = "addressed"
	Tagged    Change = "tagged"
)

// Changes are all changes, the commonest first.
var Changes = []Change{Tagged, Resized, Renamed, Created, Addressed, Deleted}

// DriftRequest asks for a number of changes, of the given sorts; none given means any.
type DriftRequest struct {
	Seed  uint64   `json:"seed"`
	Count int      `json:"count"`
	Sorts []Change `json:"sorts,omitempty"`
}

// Drifted is one change that was made.
type Drifted struct {
	Site   string `json:"site"`
	Change Change `json:"change"`
	Term   string `json:"term"`
	ID     string `json:"id"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
}

// Drift changes things at the stand-ins out of band, each thing at most once, and says what was done. Equal seeds and
// equal stand-ins give equal changes.
func (s *Sandbox) Drift(want DriftRequest) []Drifted {
	rng := rand.New(rand.NewPCG(want.Seed, 11))
	var out []Drifted
	touched := map[string]bool{}
	for try := 0; len(out) < want.Count && try < want.Count*20; try++ {
		all := s.clouds()
		c := all[rng.IntN(len(all))]
		if d, ok := c.driftOnce(rng, want.Sorts, touched); ok {
			out = append(out, d)
		}
	}
	return out
}

// drift changes things at one stand-in.
func (c *Cloud) drift(want DriftRequest) []Drifted {
	rng := rand.New(rand.NewPCG(want.Seed, 11))
	out := []Drifted{}
	touched := map[string]bool{}
	for try := 0; len(out) < want.Count && try < want.Count*20; try++ {
		if d, ok := c.driftOnce(rng, want.Sorts, touched); ok {
			out = append(out, d)
		}
	}
	return out
}

// Live changes one thing somewhere, again and again, until the stand-ins end. It waits while a site is being built on.
func (s *Sandbox) Live(every time.Duration, seed uint64) {
	rng := rand.New(rand.NewPCG(seed, 12))
	go func() {
		for all := s.clouds(); len(all) > 0 && all[0].wait(every); all = s.clouds() {
			c := all[rng.IntN(len(all))]
			c.mu.Lock()
			quiet := time.Since(c.asked) > min(every, time.Minute)
			c.mu.Unlock()
			if quiet {
				c.drift(DriftRequest{Seed: rng.Uint64(), Count: 1})
			}
		}
	}()
}

// driftOnce makes one change, if the thing and the change that were drawn go together.
func (c *Cloud) driftOnce(rng *rand.Rand, sorts []Change, touched map[string]bool) (Drifted, bool) {
	if len(sorts) == 0 {
		sorts = Changes
	}
	sort := sorts[rng.IntN(len(sorts))]
	c.mu.Lock()
	defer c.mu.Unlock()
	defer c.keep() //nolint:errcheck // if it cannot be kept, the next call says so
	if sort == Created {
		d, ok := c.createByHand(rng)
		touched[d.ID] = true
		return d, ok
	}
	t := c.draw(rng, sort, touched)
	if t == nil {
		return Drifted{}, false
	}
	d := Drifted{Site: c.site.Name, Change: sort, Term: t.term, ID: t.ID, Title: t.Title}
	ok := false
	switch sort {
	case Resized:
		d.Detail, ok = c.resizeByHand(rng, t)
	case Deleted:
		d.Detail, ok = c.deleteByHand(t)
	case Renamed:
		t.Title = fmt.Sprintf("%s-%s", t.Title, []string{"old", "new", "bak", "x"}[rng.IntN(4)])
		d.Detail, ok = t.Title, true
	case Addressed:
		d.Detail, ok = c.addressByHand(rng, t)
	case Tagged:
		name, v := []string{"owner", "ticket", "night-off"}[rng.IntN(3)], fmt.Sprintf("by-hand-%04d", rng.IntN(10000))
		t.Attributes[wire.OwnTag+name] = v
		d.Detail, ok = name+" "+v, true
	}
	if ok {
		touched[t.ID] = true
		if sort != Deleted {
			c.changed(t)
		}
	}
	return d, ok
}

// suits says of which kinds of things a change is made.
var suits = map[Change][]string{Resized: {"compute", "storage"}, Deleted: {"compute", "storage"}, Renamed: {"compute", "storage", "network"},
	Addressed: {"networkinterface"}, Tagged: {"compute", "storage", "network"}}

// draw picks a thing that is at rest. What is linked to something touched is let be.
func (c *Cloud) draw(rng *rand.Rand, sort Change, touched map[string]bool) *thing {
	var fit []*thing
	for _, id := range c.ids {
		t := c.things[id]
		if t == nil || touched[id] || touched[t.source] || touched[t.target] || !slices.Contains(suits[sort], t.term) || t.Attributes[lives[t.term].word] != lives[t.term].active {
			continue
		}
		if sort == Deleted && t.term != "compute" && (c.targets(id) > 0 || t.standing) {
			continue
		}
		if sort == Deleted && c.touchedLink(id, touched) {
			continue
		}
		fit = append(fit, t)
	}
	if len(fit) == 0 {
		return nil
	}
	return fit[rng.IntN(len(fit))]
}

// targets counts the links that lead to a thing.
func (c *Cloud) targets(id string) int {
	n := 0
	for _, t := range c.things {
		if t.target == id {
			n++
		}
	}
	return n
}

// touchedLink reports that something linked from an instance was touched.
func (c *Cloud) touchedLink(id string, touched map[string]bool) bool {
	for _, t := range c.things {
		if t.source == id && (touched[t.ID] || touched[t.target]) {
			return true
		}
	}
	return false
}

func (c *Cloud) resizeByHand(rng *rand.Rand, t *thing) (string, bool) {
	if t.term == "storage" {
		size := number(t.Attributes[wire.StorageSize]) + float64(5*(1+rng.IntN(4)))
		t.Attributes[wire.StorageSize] = size
		if t.disk != nil {
			t.disk.Grow(int64(size * (1 << 30)))
		}
		return fmt.Sprintf("%g GiB", size), true
	}
	if t.service() != "" { // what the site runs itself has no size
		return "", false
	}
	take := t.take
	if len(c.site.Sizes) > 0 && !c.site.FreeForm {
		z := c.site.Sizes[rng.IntN(len(c.site.Sizes))]
		take.Cores, take.MemoryGiB = z.Cores, z.MemoryGiB
		if take.Cores == t.take.Cores && take.MemoryGiB == t.take.MemoryGiB {
			return "", false
		}
		if !t.room.free.Plus(t.take).Fits(take) {
			return "", false
		}
		t.Mixins = withSize(t.Mixins, wire.OwnSizes+z.Name)
	} else {
		take.MemoryGiB *= 2
		if !t.room.free.Plus(t.take).Fits(take) {
			return "", false
		}
	}
	t.room.free = t.room.free.Plus(t.take).Minus(take)
	t.take = take
	t.Attributes[wire.Cores], t.Attributes[wire.Memory] = take.Cores, take.MemoryGiB
	return take.String(), true
}

func (c *Cloud) deleteByHand(t *thing) (string, bool) {
	for id, link := range c.things {
		if link.source == t.ID {
			c.drop(id)
		}
	}
	c.drop(t.ID)
	return "", true
}

// addressByHand gives an interface another address of the site's pools.
func (c *Cloud) addressByHand(rng *rand.Rand, t *thing) (string, bool) {
	if word(t.Attributes[wire.OwnInside]) == "" {
		return "", false
	}
	for range 20 {
		n := c.site.Networks[rng.IntN(len(c.site.Networks))]
		if len(n.Pools) == 0 {
			continue
		}
		a, err := netip.ParseAddr(n.Pools[0].From)
		if err != nil {
			continue
		}
		for range rng.IntN(40) {
			a = a.Next()
		}
		asks := &thing{Resource: wire.Resource{Attributes: map[string]any{wire.OwnInside: a.String()}}}
		if n.Pools[0].Contains(a) && c.inside(asks) == nil {
			t.Attributes[wire.OwnInside] = a.String()
			return a.String(), true
		}
	}
	return "", false
}

// createByHand makes an instance or a volume that nobody asked for.
func (c *Cloud) createByHand(rng *rand.Rand) (Drifted, bool) {
	term := []string{"compute", "compute", "storage"}[rng.IntN(3)]
	name := fmt.Sprintf("%s-%d", []string{"tmp-bastion", "forecast-test", "copy-of-store", "try"}[rng.IntN(4)], rng.IntN(100))
	want := wire.Resource{Kind: terms[term].kind, Title: name, Attributes: map[string]any{}}
	if term == "storage" {
		want.Attributes[wire.StorageSize] = float64(10 * (1 + rng.IntN(10)))
	} else {
		c.shapeByHand(rng, &want)
	}
	t, why := c.accept(term, want, false)
	if why != nil {
		return Drifted{}, false
	}
	l := lives[term]
	if term == "compute" {
		h, err := host.New(strings.ToLower(name), c.pace, "", t.disk, nil)
		if err != nil {
			c.drop(t.ID)
			return Drifted{}, false
		}
		t.host, t.made = simulated{h}, true
		c.watch(h)
	}
	t.Attributes[l.state], t.Attributes[l.word] = l.active, l.active
	c.changed(t)
	return Drifted{c.site.Name, Created, term, t.ID, t.Title, estate.GiB(number(t.Attributes[wire.StorageSize]) + t.take.MemoryGiB)}, true
}

func (c *Cloud) shapeByHand(rng *rand.Rand, want *wire.Resource) {
	want.Mixins = []string{wire.OwnImages + c.site.Images[rng.IntN(len(c.site.Images))].Name}
	want.Attributes[wire.Hostname], want.Attributes[wire.OwnDisk] = want.Title, 10.0
	if len(c.site.Sizes) > 0 {
		want.Mixins = append(want.Mixins, wire.OwnSizes+c.site.Sizes[0].Name)
		return
	}
	want.Attributes[wire.Cores], want.Attributes[wire.Memory] = 1.0, 2.0
}
