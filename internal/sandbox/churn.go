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
	rng := rand.New(rand.NewPCG(c.seed, 17))
	page := make([]byte, disk.Page)
	owed := 0.0
	last := time.Now()
	for c.wait(churnEvery) {
		owed += time.Since(last).Seconds() * float64(rate)
		last = time.Now()
		n := int(owed / disk.Page)
		owed -= float64(n * disk.Page)
		c.mu.Lock() // a machine that is being switched off or suspended writes nothing more
		for _, d := range c.writing(title) {
			for range n {
				for i := range page[:64] {
					page[i] = byte(rng.Uint32())
				}
				at := systemAt(d) + rng.Int64N(set/disk.Page)*disk.Page
				_, _ = d.WriteAt(page, at)
			}
		}
		c.mu.Unlock()
	}
}

// writing are the disks of machines that are on and whose disks are looked at; title "" is any. The lock
// is held.
func (c *Cloud) writing(title string) []*disk.Disk {
	var out []*disk.Disk
	for _, t := range c.things {
		if t.term == "compute" && (title == "" || t.Title == title) && t.disk != nil && t.disk.Live() && t.Attributes[wire.ComputeState] == "active" {
			out = append(out, t.disk)
		}
	}
	return out
}
