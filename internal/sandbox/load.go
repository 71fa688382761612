package sandbox

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"maps"
	"math"
	"net/http"
	"slices"
	"strconv"
	"time"

	"andamio/internal/core/measure"
	"andamio/internal/sandbox/host"
	"andamio/internal/site/occi/wire"
)

// Load is what a machine of a stand-in is to use for a while, whatever it would use by itself.
type Load struct {
	// Name is the machine's; Shares are how much of what it has is used, by measure, from 0 to 1.
	Name   string             `json:"name"`
	Shares map[string]float64 `json:"shares"`
	Until  time.Time          `json:"until"`
}

// Loaded are the measures of which a stand-in takes a share.
var Loaded = []string{measure.CoresUsed, measure.MemoryUsed, measure.DiskUsed}

// shareAt is how busy a machine is at a moment, from 0 to 1: as its services are asked by day and less by night, with a peak and some noise of its own.
func shareAt(seed uint64, at time.Time) float64 {
	own := func(n uint64) float64 { return float64(mixed(seed, n)%1000) / 1000 }
	hour := float64(at.UTC().Hour()) + float64(at.Minute())/60
	day := 0.5 + 0.5*math.Sin((hour-8-4*own(1))/24*2*math.Pi)
	noise := float64(mixed(seed, uint64(at.Unix()/15))%2000)/1000 - 1
	return min(max(0.06+0.1*own(2)+(0.2+0.25*own(3))*day+0.03*noise, 0.01), 0.9)
}

// mixed is a number that follows from two, and from nothing else.
func mixed(a, b uint64) uint64 {
	x := a ^ b*0x9e3779b97f4a7c15
	x ^= x >> 30
	x *= 0xbf58476d1ce4e5b9
	x ^= x >> 27
	x *= 0x94d049bb133111eb
	return x ^ x>>31
}

// measures tells what the machines use.
func (c *Cloud) measures(w http.ResponseWriter, _ *http.Request) {
	now := time.Now()
	c.mu.Lock()
	defer c.mu.Unlock()
	out := wire.Measures{Machines: []wire.MachineMeasures{}}
	for _, id := range c.ids {
		t := c.things[id]
		if t == nil || t.term != "compute" || !t.made {
			continue
		}
		if values := c.used(t, now); len(values) > 0 {
			out.Machines = append(out.Machines, wire.MachineMeasures{ID: t.ID, Values: values})
		}
	}
	respond(w, http.StatusOK, out)
}

// used is what a machine uses at a moment; nothing of one that is off but its disk. The lock is held.
func (c *Cloud) used(t *thing, now time.Time) map[string]float64 {
	h := fnv.New64a()
	fmt.Fprint(h, c.seed, t.Title)
	seed := h.Sum64()
	share := shareAt(seed, now)
	is := map[string]float64{measure.CoresUsed: share, measure.MemoryUsed: 0.35 + 0.3*share, measure.DiskUsed: 0.2 + float64(seed%200)/1000}
	if l := c.loads[t.Title]; l != nil && now.Before(l.Until) {
		maps.Copy(is, l.Shares)
	}
	has := map[string]float64{measure.CoresHeld: float64(t.take.Cores), measure.MemoryHeld: t.take.MemoryGiB * (1 << 30), measure.DiskHeld: t.take.DiskGiB * (1 << 30)}
	out := map[string]float64{}
	for name, limit := range has {
		if limit > 0 {
			used := measure.Catalogue[slices.IndexFunc(measure.Catalogue, func(m measure.Measure) bool { return m.Limit == name })].Name
			out[name], out[used] = limit, is[used]*limit
		}
	}
	life := lives["compute"]
	if t.Attributes[life.state] != life.active {
		for _, name := range []string{measure.CoresUsed, measure.MemoryUsed} {
			delete(out, name)
		}
		return out
	}
	out[measure.NetReceived], out[measure.NetSent] = 40e3+3e6*share, 20e3+5e6*share*share
	out[measure.DiskRead], out[measure.DiskWritten] = 8e3+4e5*share, 2e4+6e5*share
	return out
}

// using tells what a machine uses to whoever looks from inside.
func (c *Cloud) using(t *thing) func() host.Use {
	return func() host.Use {
		c.mu.Lock()
		defer c.mu.Unlock()
		is := c.used(t, time.Now())
		return host.Use{Cores: is[measure.CoresUsed], Memory: is[measure.MemoryUsed], MemoryHeld: is[measure.MemoryHeld], Disk: is[measure.DiskUsed], DiskHeld: is[measure.DiskHeld]}
	}
}

// loadNow has a machine use what it is told, as if its services were asked that much.
func (c *Cloud) loadNow(w http.ResponseWriter, r *http.Request) {
	var want Load
	if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 1<<16)).Decode(&want); err != nil {
		refuse(w, http.StatusBadRequest, "the body cannot be read: %v", err)
		return
	}
	for name, share := range want.Shares {
		if !slices.Contains(Loaded, name) || share < 0 || share > 1 {
			refuse(w, http.StatusBadRequest, "a share of %s is from 0 to 1, and it is %s", name, strconv.FormatFloat(share, 'g', -1, 64))
			return
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if !slices.ContainsFunc(c.ids, func(id string) bool {
		t := c.things[id]
		return t != nil && t.term == "compute" && t.Title == want.Name
	}) {
		refuse(w, http.StatusNotFound, "there is no machine %s", want.Name)
		return
	}
	if c.loads == nil {
		c.loads = map[string]*Load{}
	}
	c.loads[want.Name] = &want
	respond(w, http.StatusOK, want)
}
