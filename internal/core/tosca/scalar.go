package tosca

import (
	"fmt"
	"math/big"
	"regexp"
	"slices"
	"strings"
)

// Dimension is what a scalar unit measures (section 3.3.6).
type Dimension string

// The dimensions of the standard.
const (
	Size      Dimension = "scalar-unit.size"
	Time      Dimension = "scalar-unit.time"
	Frequency Dimension = "scalar-unit.frequency"
	Bitrate   Dimension = "scalar-unit.bitrate"
)

// unit is a name with its worth in the dimension's base unit as a fraction, so that no value is ever rounded.
type unit struct {
	name     string
	num, den int64
}

// units lists each dimension's units, the base unit's worth being 1: bytes, seconds, hertz, bits per second.
var units = map[Dimension][]unit{
	Size: {{"B", 1, 1}, {"kB", 1e3, 1}, {"KiB", 1 << 10, 1}, {"MB", 1e6, 1}, {"MiB", 1 << 20, 1},
		{"GB", 1e9, 1}, {"GiB", 1 << 30, 1}, {"TB", 1e12, 1}, {"TiB", 1 << 40, 1}},
	Time:      {{"d", 86400, 1}, {"h", 3600, 1}, {"m", 60, 1}, {"s", 1, 1}, {"ms", 1, 1e3}, {"us", 1, 1e6}, {"ns", 1, 1e9}},
	Frequency: {{"Hz", 1, 1}, {"kHz", 1e3, 1}, {"MHz", 1e6, 1}, {"GHz", 1e9, 1}},
	Bitrate: {{"bps", 1, 1}, {"Kbps", 1e3, 1}, {"Kibps", 1 << 10, 1}, {"Mbps", 1e6, 1}, {"Mibps", 1 << 20, 1},
		{"Gbps", 1e9, 1}, {"Gibps", 1 << 30, 1}, {"Tbps", 1e12, 1}, {"Tibps", 1 << 40, 1},
		{"Bps", 8, 1}, {"KBps", 8e3, 1}, {"KiBps", 8 << 10, 1}, {"MBps", 8e6, 1}, {"MiBps", 8 << 20, 1},
		{"GBps", 8e9, 1}, {"GiBps", 8 << 30, 1}, {"TBps", 8e12, 1}, {"TiBps", 8 << 40, 1}},
}

// Scalar is an exact quantity with a unit.
type Scalar struct {
	Dimension Dimension
	// Text is the value as written, "16 GiB".
	Text string
	// Rat is the exact worth in the base unit: bytes, seconds, hertz, bits per second.
	Rat *big.Rat
}

// Float is the worth in the base unit, rounded to the nearest float.
func (s Scalar) Float() float64 { f, _ := s.Rat.Float64(); return f }

// Cmp orders two scalars of one dimension.
func (s Scalar) Cmp(o Scalar) int { return s.Rat.Cmp(o.Rat) }

func (s Scalar) String() string { return s.Text }

// MarshalText writes the scalar as it was written.
func (s Scalar) MarshalText() ([]byte, error) { return []byte(s.Text), nil }

var scalarForm = regexp.MustCompile(`^([0-9]{1,18}(?:\.[0-9]{1,18})?)[ \t]*([A-Za-z]*)$`)

// scalarError says why a text is no scalar of a dimension, with the code to report it under.
type scalarError struct {
	code          Code
	message, hint string
}

func (e *scalarError) Error() string { return e.message }

// ParseScalar reads "16 GiB". Unit names are matched exactly first and then without regard to case, as the standard
// recommends, unless that is ambiguous.
func ParseScalar(d Dimension, text string) (Scalar, error) {
	m := scalarForm.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return Scalar{}, &scalarError{CodeValueType, fmt.Sprintf("%q is not a number with a unit", text), example(d)}
	}
	if m[2] == "" {
		return Scalar{}, &scalarError{CodeUnitMissing, fmt.Sprintf("%s has no unit", m[1]), unitHint(d, m[1])}
	}
	u, ok := findUnit(d, m[2])
	if !ok {
		return Scalar{}, &scalarError{CodeUnitUnknown, fmt.Sprintf("%q is no unit of %s", m[2], dimensionName(d)),
			"units: " + strings.Join(unitNames(d), ", ")}
	}
	rat, _ := new(big.Rat).SetString(m[1])
	return Scalar{d, m[1] + " " + u.name, rat.Mul(rat, big.NewRat(u.num, u.den))}, nil
}

func findUnit(d Dimension, name string) (unit, bool) {
	var found []unit
	for _, u := range units[d] {
		if u.name == name {
			return u, true
		}
		if strings.EqualFold(u.name, name) {
			found = append(found, u)
		}
	}
	if len(found) == 1 {
		return found[0], true
	}
	return unit{}, false
}

func unitNames(d Dimension) []string {
	names := make([]string, len(units[d]))
	for i, u := range units[d] {
		names[i] = u.name
	}
	return names
}

// unitHint suggests the units most people mean.
func unitHint(d Dimension, number string) string {
	if d == Size {
		return fmt.Sprintf("write %s GB (1000³ bytes) or %s GiB (1024³ bytes)", number, number)
	}
	return example(d)
}

func example(d Dimension) string {
	return map[Dimension]string{Size: "for example 16 GiB", Time: "for example 30 s",
		Frequency: "for example 2.4 GHz", Bitrate: "for example 100 Mbps"}[d]
}

func dimensionName(d Dimension) string { return strings.TrimPrefix(string(d), "scalar-unit.") }

// isDimension reports whether a type name is a scalar unit type.
func isDimension(name string) bool {
	return slices.Contains([]Dimension{Size, Time, Frequency, Bitrate}, Dimension(name))
}
