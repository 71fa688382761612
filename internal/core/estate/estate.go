// Package estate describes where workloads can run: sites with their zones, hosts, sizes, images, prices and the time
// their operations usually take.
//
// In goes JSON or YAML (schemas/estate.schema.json) or what a site's driver reads from the site; out come values that
// placement and planning compute with. Memory and disk are in GiB, money in the estate's currency per hour, times in
// seconds.
package estate

import (
	"math"
	"time"
)

// Version is the format that [Read] accepts and [Estate.Write] writes.
const Version = "andamio.estate/1"

// Kind is what sort of site it is.
type Kind string

// The kinds of site.
const (
	Edge    Kind = "edge"
	Private Kind = "private"
	Public  Kind = "public"
)

// NetworkKind is how instances at a site are reached from outside.
type NetworkKind string

const (
	// Address sites give each instance an address of its own.
	Address NetworkKind = "address"
	// Ports sites have one address and map ports of it to instances.
	Ports NetworkKind = "ports"
)

// Estate is all sites.
type Estate struct {
	Version string `json:"version"`
	// Currency is the internal unit that every price is in; Currencies says how much of another one a unit is.
	Currency   string             `json:"currency"`
	Currencies map[string]float64 `json:"currencies,omitempty"`
	Sites      []*Site            `json:"sites"`
	// Zone is the zone in which services are known by names; "" keeps none.
	Zone string `json:"zone,omitempty"`
	// Away are the connected sites that do not answer, and are not among Sites.
	Away []Away `json:"away,omitempty"`
}

// Away is a site of which is known only why it is not.
type Away struct {
	Name string `json:"name"`
	Why  string `json:"why"`
}

// Site is somewhere workloads run.
type Site struct {
	Name         string      `json:"name"`
	Title        string      `json:"title,omitempty"`
	Kind         Kind        `json:"kind"`
	Provider     string      `json:"provider,omitempty"`
	Jurisdiction string      `json:"jurisdiction,omitempty"`
	Features     []string    `json:"features,omitempty"`
	Network      NetworkKind `json:"network"`
	// Pace is how long operations take here relative to their nominal time; 1 if nothing is known.
	Pace  float64 `json:"pace"`
	Zones []Zone  `json:"zones"`
	// Between are the milliseconds between two zones; zones without an entry are 0 ms apart.
	Between  []ZoneDistance `json:"between_zones,omitempty"`
	Sizes    []Size         `json:"sizes,omitempty"`
	FreeForm bool           `json:"free_form,omitempty"`
	Images   []Image        `json:"images"`
	Networks []Network      `json:"networks,omitempty"`
	Storage  []StorageClass `json:"storage_classes,omitempty"`
	// Appliances are services that the site itself runs in the place of an instance with software, such as load-balancer, with what one costs an hour.
	Appliances map[string]float64 `json:"appliances,omitempty"`
	// Quotas are limits of the account, by name: instances, addresses, cores, memory_gib, disk_gib or an extra.
	Quotas map[string]Quota `json:"quotas,omitempty"`
	// Distances are the milliseconds to other sites, measured one way.
	Distances map[string]float64 `json:"distances_ms,omitempty"`
	// Bandwidth is how many megabytes a second come in from other sites; one that is not named is not bounded.
	Bandwidth map[string]float64 `json:"bandwidth_mb_s,omitempty"`
	Prices    Prices             `json:"prices"`
	Timings   Timings            `json:"timings"`
	// Seen is when the site said all this; zero where it comes from a file that does not say.
	Seen time.Time `json:"seen,omitzero"`
	// Standing is what is there already and templates may take; see the directive select of TOSCA 1.3, section 3.4.3.
	Standing []Existing `json:"standing,omitempty"`
	// Naming says what names of instances the site takes; nil takes any.
	Naming *Naming `json:"naming,omitempty"`
}

// ZoneDistance is how far two zones of a site are from each other.
type ZoneDistance struct {
	Zones [2]string `json:"zones"`
	Ms    float64   `json:"ms"`
}

// Site returns the site of that name, or nil.
func (e *Estate) Site(name string) *Site {
	for _, s := range e.Sites {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Seconds is a nominal time at this site's pace.
func (s *Site) Seconds(nominal float64) float64 { return math.Round(nominal*s.Pace*1000) / 1000 }

// Timings are the usual seconds from asking until the thing is active, at pace 1.
type Timings struct {
	Network    float64 `json:"network"`
	Volume     float64 `json:"volume"`
	Instance   float64 `json:"instance"`
	Interface  float64 `json:"interface"`
	Attachment float64 `json:"attachment"`
}
