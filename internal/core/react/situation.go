package react

import (
	"time"

	"andamio/internal/core/alarm"
	"andamio/internal/core/promise"
)

// Situation is what is known of a deployment at a moment.
type Situation struct {
	// Busy says why nothing is to be done now, as where a run of it is under way; "" if nothing is in the way.
	Busy string
	// LastRun is when its last run ended, whoever had it run.
	LastRun time.Time
	// Sights are what is seen of its machines by their sites and by asking them; nil where nobody looked, since nothing is wrong.
	Sights []promise.Sight
	// Machines are those that are to be on.
	Machines []Machine
	// Alerts are those that go on and concern it.
	Alerts []alarm.Alert
	// Tiers are those that may be scaled, by what reactions call them; one of which nothing is to be done, as while it is off, is not among them.
	Tiers map[string]*Tier
	// Hosts are those of sites where it has machines, as far as their load is known.
	Hosts []Host
	// Spreading is when something was last evened out at a site, by whatever deployment.
	Spreading map[string]time.Time
}

// Machine is a machine of a deployment.
type Machine struct {
	ID               string
	Node             string
	Site, Zone, Host string
	// Disks says that it has disks of its own beside the one it starts from.
	Disks bool
	// Load is how many cores it uses, Cores how many it has. Known says that this was measured just now.
	Load, Cores float64
	Known       bool
}

// Tier is one that may be scaled.
type Tier struct {
	Node string
	// Count is how many there are; Least and Most how many the template allows, 0 where it does not say.
	Count, Least, Most int
	// Lead is how long it takes until another one serves.
	Lead time.Duration
	// PerMonth is what one of them costs a month, Rest what everything else of the deployment does.
	PerMonth, Rest float64
	Load           Load
}

// Host is a host of a site.
type Host struct {
	Site, Zone, Name string
	// Cores are those that it has, Used what all machines on it use.
	Cores, Used float64
}

// use is the share of its cores that is used.
func (h *Host) use() float64 { return h.Used / h.Cores }

func (s *Situation) machine(id string) *Machine {
	for i := range s.Machines {
		if s.Machines[i].ID == id {
			return &s.Machines[i]
		}
	}
	return nil
}
