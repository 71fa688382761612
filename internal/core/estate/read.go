package estate

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Read reads an estate from JSON or YAML and checks it: every mistake is in the error, each with the path to it.
func Read(data []byte) (*Estate, error) {
	var e Estate
	if err := Decode(data, &e); err != nil {
		return nil, fmt.Errorf("this is no estate: %w", err)
	}
	return &e, e.Check()
}

// Decode reads JSON, or YAML of the same shape, into v; fields that v does not have are a mistake.
func Decode(data []byte, v any) error {
	if trimmed := bytes.TrimSpace(data); len(trimmed) == 0 || trimmed[0] != '{' {
		var tree any
		if err := yaml.Unmarshal(data, &tree); err != nil {
			return err
		}
		var err error
		if data, err = json.Marshal(tree); err != nil {
			return fmt.Errorf("only text may name a value: %w", err)
		}
	}
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.DisallowUnknownFields()
	return dec.Decode(v)
}

// Day is a day that [Decode] read (RFC 3339, full-date), whether it was written with quotes or without, which YAML takes for its midnight.
func Day(text string) string { return strings.TrimSuffix(text, "T00:00:00Z") }

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
	for name, x := range e.Currencies {
		if !(x > 0) || math.IsInf(x, 0) {
			errs = append(errs, fmt.Errorf("currencies.%s: %v is not above 0", name, x))
		}
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
	for i, n := range s.Networks {
		errs = append(errs, n.check(fmt.Sprintf("%s.networks[%d]", at, i))...)
	}
	errs = append(errs, s.checkRooms(at)...)
	return append(errs, s.checkNumbers(at)...)
}

// checkRooms finds zones and hosts that are named twice, hold less than nothing, or have more free than they are.
func (s *Site) checkRooms(at string) []error {
	var errs []error
	if len(s.Zones) == 0 {
		errs = append(errs, fmt.Errorf("%s.zones: a site has at least one zone", at))
	}
	zones := map[string]bool{}
	for i, z := range s.Zones {
		if z.Name == "" || zones[z.Name] {
			errs = append(errs, fmt.Errorf("%s.zones[%d].name: %q is empty or used twice", at, i, z.Name))
		}
		zones[z.Name] = true
	}
	rooms := map[[2]string]bool{}
	for _, r := range s.Rooms() {
		if key := [2]string{r.Zone, r.Host}; rooms[key] {
			errs = append(errs, fmt.Errorf("%s: %s is there twice", at, r.Name()))
		} else {
			rooms[key] = true
		}
		if part := r.Free.negative() + r.Total.negative(); part != "" {
			errs = append(errs, fmt.Errorf("%s: %s of %s is below 0 or no number", at, part, r.Name()))
		}
		if !r.Total.IsZero() && !r.Total.Fits(r.Free) {
			errs = append(errs, fmt.Errorf("%s: %s has more free than it is in total", at, r.Name()))
		}
	}
	return errs
}

func (s *Site) checkNumbers(at string) []error {
	numbers := map[string]float64{"prices.core": s.Prices.Core, "prices.memory_gib": s.Prices.Memory,
		"prices.disk_gib": s.Prices.Disk, "prices.address": s.Prices.Address, "timings.network": s.Timings.Network,
		"timings.volume": s.Timings.Volume, "timings.instance": s.Timings.Instance, "timings.interface": s.Timings.Interface,
		"timings.attachment": s.Timings.Attachment}
	for name, x := range s.Appliances {
		numbers["appliances."+name] = x
	}
	for to, x := range s.Prices.Egress {
		numbers["prices.egress_gib."+to] = x
	}
	for p, x := range s.Prices.Reserved {
		numbers["prices.reserved."+string(p)] = x
	}
	for to, ms := range s.Distances {
		numbers["distances_ms."+to] = ms
	}
	for name, q := range s.Quotas {
		numbers["quotas."+name] = min(q.Limit, q.Used)
	}
	for i, z := range s.Sizes {
		name := fmt.Sprintf("sizes[%d]", i)
		numbers[name] = min(z.PricePerHour, float64(z.Cores), z.MemoryGiB)
		for p, x := range z.Reserved {
			numbers[name+".reserved."+string(p)] = x
		}
	}
	var errs []error
	for _, name := range slices.Sorted(maps.Keys(numbers)) {
		if x := numbers[name]; x < 0 || math.IsNaN(x) || math.IsInf(x, 0) {
			errs = append(errs, fmt.Errorf("%s.%s: %v is negative", at, name, x))
		}
	}
	return errs
}
