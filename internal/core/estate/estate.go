// Package estate describes where workloads can run: sites with their zones, hosts, sizes, images, prices and the time
// their operations usually take.
//
// In goes JSON (schemas/estate.schema.json) or what a site's driver reads from the site; out come values that
// placement and planning compute with. Memory and disk are in GiB, money in the estate's currency per hour, times in
// seconds.
package estate

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
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
	Version  string  `json:"version"`
	Currency string  `json:"currency"`
	Sites    []*Site `json:"sites"`
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
	Pace     float64 `json:"pace"`
	Zones    []Zone  `json:"zones"`
	Sizes    []Size  `json:"sizes,omitempty"`
	FreeForm bool    `json:"free_form,omitempty"`
	Images   []Image `json:"images"`
	Prices   Prices  `json:"prices"`
	Timings  Timings `json:"timings"`
	// Standing is what is there already and templates may take; see the directive select of TOSCA 1.3, section 3.4.3.
	Standing []Standing `json:"standing,omitempty"`
	// Naming says what names of instances the site takes; nil takes any.
	Naming *Naming `json:"naming,omitempty"`
}

// Standing is something at the site that a template may take instead of building it. Type is a TOSCA node type;
// Attributes["site.id"] is the site's own id of it.
type Standing struct {
	Name         string                    `json:"name"`
	Type         string                    `json:"type"`
	Properties   map[string]any            `json:"properties,omitempty"`
	Capabilities map[string]map[string]any `json:"capabilities,omitempty"`
	Attributes   map[string]string         `json:"attributes,omitempty"`
}

// Naming is a rule that names of instances must match. An advisory rule is a doubt, not a mistake.
type Naming struct {
	Pattern  string `json:"pattern"`
	Example  string `json:"example,omitempty"`
	Advisory bool   `json:"advisory,omitempty"`
}

// Capacity is an amount of the three things every instance takes.
type Capacity struct {
	Cores     int     `json:"cores"`
	MemoryGiB float64 `json:"memory_gib"`
	DiskGiB   float64 `json:"disk_gib"`
}

// Fits reports whether the need fits into the capacity.
func (c Capacity) Fits(need Capacity) bool {
	return need.Cores <= c.Cores && need.MemoryGiB <= c.MemoryGiB+1e-9 && need.DiskGiB <= c.DiskGiB+1e-9
}

// Minus is what is left of the capacity.
func (c Capacity) Minus(o Capacity) Capacity {
	return Capacity{c.Cores - o.Cores, c.MemoryGiB - o.MemoryGiB, c.DiskGiB - o.DiskGiB}
}

// Plus is both together.
func (c Capacity) Plus(o Capacity) Capacity {
	return Capacity{c.Cores + o.Cores, c.MemoryGiB + o.MemoryGiB, c.DiskGiB + o.DiskGiB}
}

func (c Capacity) String() string {
	return Cores(c.Cores) + ", " + GiB(c.MemoryGiB) + " memory, " + GiB(c.DiskGiB) + " disk"
}

// Cores renders a number of cores for people.
func Cores(n int) string {
	if n == 1 {
		return "1 core"
	}
	return strconv.Itoa(n) + " cores"
}

// GiB renders an amount in GiB for people.
func GiB(x float64) string {
	if x >= 1024 {
		return trim(x/1024) + " TiB"
	}
	return trim(x) + " GiB"
}

func trim(x float64) string { return strconv.FormatFloat(math.Round(x*10)/10, 'g', -1, 64) }

// Zone is a part of a site that fails on its own. Hosts are given where the site exposes them; elsewhere Free is the
// zone's as a whole.
type Zone struct {
	Name  string   `json:"name"`
	Hosts []Host   `json:"hosts,omitempty"`
	Free  Capacity `json:"free,omitzero"`
}

// Host is a machine that carries instances, with what is free on it.
type Host struct {
	Name string   `json:"name"`
	Free Capacity `json:"free"`
}

// Size is a named shape of instance with its price.
type Size struct {
	Name         string  `json:"name"`
	Cores        int     `json:"cores"`
	MemoryGiB    float64 `json:"memory_gib"`
	PricePerHour float64 `json:"price_per_hour"`
}

// Image is a system that instances start from.
type Image struct {
	Name string `json:"name"`
	OS   string `json:"os"`
}

// Prices per hour. Core and memory prices apply where sizes are free-form.
type Prices struct {
	Core    float64 `json:"core"`
	Memory  float64 `json:"memory_gib"`
	Disk    float64 `json:"disk_gib"`
	Address float64 `json:"address"`
}

// Timings are the usual seconds from asking until the thing is active, at pace 1.
type Timings struct {
	Network    float64 `json:"network"`
	Volume     float64 `json:"volume"`
	Instance   float64 `json:"instance"`
	Interface  float64 `json:"interface"`
	Attachment float64 `json:"attachment"`
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

// ImageNamed reports whether the site offers an image of that name.
func (s *Site) ImageNamed(name string) bool {
	return slices.ContainsFunc(s.Images, func(i Image) bool { return i.Name == name })
}

// Has reports whether the site has a feature.
func (s *Site) Has(feature string) bool { return slices.Contains(s.Features, feature) }

// Image returns the first image with the system, any if os is empty; nil if there is none.
func (s *Site) Image(os string) *Image {
	for i := range s.Images {
		if os == "" || s.Images[i].OS == os {
			return &s.Images[i]
		}
	}
	return nil
}

// Seconds is a nominal time at this site's pace.
func (s *Site) Seconds(nominal float64) float64 { return math.Round(nominal*s.Pace*1000) / 1000 }

// Read reads an estate and checks it: every mistake is in the error, each with the path to it.
func Read(data []byte) (*Estate, error) {
	var e Estate
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&e); err != nil {
		return nil, fmt.Errorf("this is no estate: %w", err)
	}
	return &e, e.Check()
}

// Write renders the estate as JSON.
func (e *Estate) Write() ([]byte, error) {
	e.Version = Version
	data, err := json.MarshalIndent(e, "", "  ")
	return append(data, '\n'), err
}

// Check says what is wrong with an estate, or nil.
func (e *Estate) Check() error {
	var errs []error
	if e.Version != Version {
		errs = append(errs, fmt.Errorf("version: %q is not read; Andamio reads %q", e.Version, Version))
	}
	seen := map[string]bool{}
	for i, s := range e.Sites {
		if s == nil {
			errs = append(errs, fmt.Errorf("sites[%d]: empty", i))
			continue
		}
		if s.Name == "" || seen[s.Name] {
			errs = append(errs, fmt.Errorf("sites[%d].name: %q is empty or used twice", i, s.Name))
		}
		seen[s.Name] = true
		errs = append(errs, s.check(fmt.Sprintf("sites[%d]", i))...)
	}
	return errors.Join(errs...)
}

func (s *Site) check(at string) []error {
	var errs []error
	if !slices.Contains([]Kind{Edge, Private, Public}, s.Kind) {
		errs = append(errs, fmt.Errorf("%s.kind: %q is not edge, private or public", at, s.Kind))
	}
	if !slices.Contains([]NetworkKind{Address, Ports}, s.Network) {
		errs = append(errs, fmt.Errorf("%s.network: %q is not address or ports", at, s.Network))
	}
	if !(s.Pace > 0 && s.Pace <= 1000) {
		errs = append(errs, fmt.Errorf("%s.pace: %v is not above 0 and at most 1000", at, s.Pace))
	}
	if len(s.Zones) == 0 {
		errs = append(errs, fmt.Errorf("%s.zones: a site has at least one zone", at))
	}
	if len(s.Sizes) == 0 && !s.FreeForm {
		errs = append(errs, fmt.Errorf("%s.sizes: a site lists sizes, or is free_form", at))
	}
	if s.Naming != nil {
		if _, err := regexp.Compile(s.Naming.Pattern); err != nil {
			errs = append(errs, fmt.Errorf("%s.naming.pattern: %w", at, err))
		}
	}
	for i, st := range s.Standing {
		if st.Name == "" || st.Type == "" {
			errs = append(errs, fmt.Errorf("%s.standing[%d]: what stands has a name and a type", at, i))
		}
	}
	for name, x := range map[string]float64{"prices.core": s.Prices.Core, "prices.memory_gib": s.Prices.Memory,
		"prices.disk_gib": s.Prices.Disk, "prices.address": s.Prices.Address, "timings.network": s.Timings.Network,
		"timings.volume": s.Timings.Volume, "timings.instance": s.Timings.Instance} {
		if x < 0 {
			errs = append(errs, fmt.Errorf("%s.%s: %v is negative", at, name, x))
		}
	}
	return errs
}
