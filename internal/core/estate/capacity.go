package estate

import (
	"maps"
	"math"
	"slices"
	"strconv"
)

// Capacity is an amount of the three things every instance takes, and of extras that a site names, such as
// accelerators.
type Capacity struct {
	Cores     int                `json:"cores"`
	MemoryGiB float64            `json:"memory_gib"`
	DiskGiB   float64            `json:"disk_gib"`
	Extra     map[string]float64 `json:"extra,omitempty"`
}

// slack forgives what adding and taking away fractions leaves.
const slack = 1e-9

// Fits reports whether the need fits into the capacity.
func (c Capacity) Fits(need Capacity) bool {
	for name, x := range need.Extra {
		if x > c.Extra[name]+slack {
			return false
		}
	}
	return need.Cores <= c.Cores && need.MemoryGiB <= c.MemoryGiB+slack && need.DiskGiB <= c.DiskGiB+slack
}

// Minus is what is left of the capacity.
func (c Capacity) Minus(o Capacity) Capacity { return c.with(o, -1) }

// Plus is both together.
func (c Capacity) Plus(o Capacity) Capacity { return c.with(o, 1) }

func (c Capacity) with(o Capacity, sign int) Capacity {
	out := Capacity{Cores: c.Cores + sign*o.Cores, MemoryGiB: c.MemoryGiB + float64(sign)*o.MemoryGiB,
		DiskGiB: c.DiskGiB + float64(sign)*o.DiskGiB, Extra: c.Extra}
	if len(o.Extra) > 0 {
		out.Extra = maps.Clone(c.Extra)
		if out.Extra == nil {
			out.Extra = map[string]float64{}
		}
		for name, x := range o.Extra {
			out.Extra[name] += float64(sign) * x
		}
	}
	return out
}

// IsZero reports whether there is nothing.
func (c Capacity) IsZero() bool {
	return c.Cores == 0 && c.MemoryGiB == 0 && c.DiskGiB == 0 && len(c.Extra) == 0
}

func (c Capacity) String() string {
	text := Cores(c.Cores) + ", " + GiB(c.MemoryGiB) + " memory, " + GiB(c.DiskGiB) + " disk"
	for _, name := range slices.Sorted(maps.Keys(c.Extra)) {
		text += ", " + trim(c.Extra[name]) + " " + name
	}
	return text
}

// negative names a part that is below zero or no number, "" if none is.
func (c Capacity) negative() string {
	parts := map[string]float64{"cores": float64(c.Cores), "memory_gib": c.MemoryGiB, "disk_gib": c.DiskGiB}
	for name, x := range c.Extra {
		parts["extra."+name] = x
	}
	for _, name := range slices.Sorted(maps.Keys(parts)) {
		if x := parts[name]; x < 0 || math.IsNaN(x) || math.IsInf(x, 0) {
			return name
		}
	}
	return ""
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

func trim(x float64) string { return strconv.FormatFloat(math.Round(x*10)/10, 'f', -1, 64) }
