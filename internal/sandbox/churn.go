package sandbox

import (
	"math/rand/v2"
	"time"

	"andamio/internal/sandbox/disk"
	"andamio/internal/site/occi/wire"
)

// churnEvery is how often machines write to their disks.
const churnEvery = 50 * time.Millisecond

// workingSet is how many bytes of a disk a machine writes to again and again: those where its system begins.
const workingSet = 8 << 20

// Busy has machines of a title write so many bytes a second to their own disks, anywhere in a working set, while they are
// on, until the stand-ins end.
func (s *Sandbox) Busy(title string, rate, set int64) {
	do := func(c *Cloud) { c.busy(title, rate, set) }
	s.mu.Lock()
	s.busy = append(s.busy, do)
	s.mu.Unlock()
	for _, c := range s.clouds() {
		go do(c)
	}
}

func (c *Cloud) busy(title string, rate, set int64) {
	w := &writer{rng: rand.New(rand.NewPCG(c.seed, 17)), page: make([]byte, disk.Page), set: set}
	owed := 0.0
	last := time.Now()
	for c.wait(churnEvery) {
		now := time.Now()
		owed += min(now.Sub(last), mostBehind).Seconds() * float64(rate)
		last = now
		n := int(owed / disk.Page)
		owed -= float64(n * disk.Page)
		all := c.writing(title)
		if title == "" {
			n = share(n, len(all))
		}
		for _, t := range all {
			c.write(t, n, w)
		}
	}
}

// What machines write takes a site's processor and its disk, and must not take all of them: who is late does not make up for more than a little,
// and where there are many they write less each.
const (
	mostBehind = 2 * churnEvery
	mostPages  = 1024
)

// share is how many pages each of some machines writes, of as many as it would.
func share(pages, machines int) int {
	if machines == 0 {
		return 0
	}
	return min(pages, max(mostPages/machines, 1))
}

// writer makes what is written.
type writer struct {
	rng  *rand.Rand
	page []byte
	set  int64
}

// write writes pages to a machine's disk, unless it does not run any more: one that is being switched off or suspended writes nothing. Others of
// the site go on between two machines.
func (c *Cloud) write(t *thing, pages int, w *writer) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !t.writes() {
		return
	}
	for range pages {
		for i := range w.page[:64] {
			w.page[i] = byte(w.rng.Uint32())
		}
		_, _ = t.disk.WriteAt(w.page, systemAt(t.disk)+w.rng.Int64N(w.set/disk.Page)*disk.Page)
	}
}

// writes reports that a machine is on, and its disk looked at. The lock is held.
func (t *thing) writes() bool {
	return t.term == "compute" && !isReal(t) && t.disk != nil && t.disk.Live() && t.Attributes[wire.ComputeState] == "active"
}

// writing are the machines of that title that write; title "" is any.
func (c *Cloud) writing(title string) []*thing {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []*thing
	for _, t := range c.things {
		if (title == "" || t.Title == title) && t.writes() {
			out = append(out, t)
		}
	}
	return out
}
