package libvirt

import (
	"context"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"

	"andamio/internal/core/measure"
	"andamio/internal/site"
)

var _ site.Meter = (*Driver)(nil)

// asked are the statistics that are asked of a daemon.
const asked = libvirt.DomainStatsState | libvirt.DomainStatsCPUTotal | libvirt.DomainStatsBalloon | libvirt.DomainStatsVCPU | libvirt.DomainStatsInterface | libvirt.DomainStatsBlock

// counters are what a daemon counts of a machine since it was switched on: from two of them follows how much it uses.
type counters struct {
	at                            time.Time
	cpu, read, written, got, sent float64
}

// leastApart is how far apart two readings of counters have to be, for a rate to be worth something.
const leastApart = 500 * time.Millisecond

// Measure asks all hosts for the statistics of their machines. What a machine uses of processors, disks and networks is counted by the host, so that it is known from the second time
// on; of its memory and its file systems only its own system knows, and tells the first where it has a driver for it. The first time
// that a daemon is asked it may take long.
func (d *Driver) Measure(ctx context.Context) ([]site.Metered, error) {
	var out []site.Metered
	for _, h := range d.hosts {
		all, err := told(ctx, h, "measure", func(_ context.Context, l *libvirt.Libvirt) ([]libvirt.DomainStatsRecord, error) {
			return l.ConnectGetAllDomainStats(nil, uint32(asked), 0)
		})
		if err != nil {
			return nil, err
		}
		out = append(out, h.metered(all, time.Now())...)
	}
	return out, nil
}

// metered is what statistics say of each machine, by the counters of before.
func (h *host) metered(all []libvirt.DomainStatsRecord, now time.Time) []site.Metered {
	h.mu.Lock()
	defer h.mu.Unlock()
	next := make(map[libvirt.UUID]counters, len(all))
	out := make([]site.Metered, 0, len(all))
	for i := range all {
		if onTrial(all[i].Dom.Name) {
			continue
		}
		s, of := statistics(all[i].Params), all[i].Dom.UUID
		values := s.held()
		if s.on() {
			c := s.counters(now)
			if was, known := h.counted[of]; known && now.Sub(was.at) < leastApart {
				c = was // asked again at once: what was counted before goes on
			} else if known {
				c.since(was, values)
			}
			next[of] = c
		}
		if len(values) > 0 {
			out = append(out, site.Metered{ID: uuid.UUID(of).String(), Values: values})
		}
	}
	h.counted = next
	return out
}

// since adds what was used a second between two readings. A counter that went back was begun anew with its machine.
func (c *counters) since(was counters, into map[string]float64) {
	apart := c.at.Sub(was.at).Seconds()
	for name, x := range map[string][2]float64{measure.CoresUsed: {was.cpu / 1e9, c.cpu / 1e9}, measure.DiskRead: {was.read, c.read}, measure.DiskWritten: {was.written, c.written},
		measure.NetReceived: {was.got, c.got}, measure.NetSent: {was.sent, c.sent}} {
		if x[1] >= x[0] {
			into[name] = (x[1] - x[0]) / apart
		}
	}
}

// statistics are the parameters of a record by their names.
type statistics []libvirt.TypedParam

func (s statistics) number(name string) (float64, bool) {
	for i := range s {
		if s[i].Field != name {
			continue
		}
		switch v := s[i].Value.I.(type) {
		case int32:
			return float64(v), true
		case uint32:
			return float64(v), true
		case int64:
			return float64(v), true
		case uint64:
			return float64(v), true
		case float64:
			return v, true
		}
	}
	return 0, false
}

// sum is that of all parameters that begin and end so.
func (s statistics) sum(prefix, suffix string) (total float64) {
	for i := range s {
		if strings.HasPrefix(s[i].Field, prefix) && strings.HasSuffix(s[i].Field, suffix) {
			v, _ := s.number(s[i].Field)
			total += v
		}
	}
	return total
}

// on reports that the machine runs.
func (s statistics) on() bool {
	state, _ := s.number(libvirt.DomainStatsStateState)
	return libvirt.DomainState(state) == libvirt.DomainRunning
}

func (s statistics) counters(now time.Time) counters {
	cpu, _ := s.number(libvirt.DomainStatsCPUTime)
	return counters{at: now, cpu: cpu, read: s.sum(libvirt.DomainStatsBlockPrefix, libvirt.DomainStatsBlockSuffixRdBytes), written: s.sum(libvirt.DomainStatsBlockPrefix, libvirt.DomainStatsBlockSuffixWrBytes),
		got: s.sum(libvirt.DomainStatsNetPrefix, libvirt.DomainStatsNetSuffixRxBytes), sent: s.sum(libvirt.DomainStatsNetPrefix, libvirt.DomainStatsNetSuffixTxBytes)}
}

// held is what a machine has, and how much of its memory its system says that it uses.
func (s statistics) held() map[string]float64 {
	out := map[string]float64{}
	if n, has := s.number("vcpu.current"); has && n > 0 {
		out[measure.CoresHeld] = n
	}
	if kib, has := s.number(libvirt.DomainStatsBalloonCurrent); has && kib > 0 {
		out[measure.MemoryHeld] = kib * 1024
	}
	if n := s.sum(libvirt.DomainStatsBlockPrefix, libvirt.DomainStatsBlockSuffixCapacity); n > 0 {
		out[measure.DiskHeld] = n
	}
	available, has := s.number(libvirt.DomainStatsBalloonAvailable)
	unused, says := s.number(libvirt.DomainStatsBalloonUnused)
	if usable, better := s.number(libvirt.DomainStatsBalloonUsable); better { // what it could use, caches included
		unused, says = usable, true
	}
	if has && says && available >= unused && s.on() {
		out[measure.MemoryUsed] = (available - unused) * 1024
	}
	return out
}
