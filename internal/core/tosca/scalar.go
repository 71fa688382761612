package tosca

import (
	"cmp"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strconv"
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
	// num over den is the worth in the base unit (bytes, seconds, hertz, bits per second) where it fits; big is it
	// otherwise.
	num, den int64
	big      *big.Rat
}

// Rat is the exact worth in the base unit: bytes, seconds, hertz, bits per second.
func (s Scalar) Rat() *big.Rat {
	if s.big != nil {
		return s.big
	}
	return big.NewRat(s.num, max(s.den, 1))
}

// Float is the worth in the base unit, rounded to the nearest float.
func (s Scalar) Float() float64 {
	if s.big == nil && s.den == 1 && s.num < 1<<53 {
		return float64(s.num)
	}
	f, _ := s.Rat().Float64()
	return f
}

// Sign is 0 for nothing and 1 for anything else; there are no negative scalars.
func (s Scalar) Sign() int {
	if s.big != nil {
		return s.big.Sign()
	}
	return min(int(min(s.num, 1)), 1)
}

// Cmp orders two scalars of one dimension.
func (s Scalar) Cmp(o Scalar) int {
	if s.big == nil && o.big == nil && s.den == o.den {
		return cmp.Compare(s.num, o.num)
	}
	return s.Rat().Cmp(o.Rat())
}

func (s Scalar) String() string { return s.Text }

// MarshalText writes the scalar as it was written.
func (s Scalar) MarshalText() ([]byte, error) { return []byte(s.Text), nil }

// scalarError says why a text is no scalar of a dimension, with the code to report it under.
type scalarError struct {
	code          Code
	message, hint string
}

func (e *scalarError) Error() string { return e.message }

// ParseScalar reads "16 GiB". Unit names are matched exactly first and then without regard to case, as the standard
// recommends, unless that is ambiguous.
func ParseScalar(d Dimension, text string) (Scalar, error) {
	number, name, ok := splitScalar(strings.TrimSpace(text))
	if !ok {
		return Scalar{}, &scalarError{CodeValueType, fmt.Sprintf("%q is not a number with a unit", text), example(d)}
	}
	if name == "" {
		return Scalar{}, &scalarError{CodeUnitMissing, number + " has no unit", unitHint(d, number)}
	}
	u, ok := findUnit(d, name)
	if !ok {
		return Scalar{}, &scalarError{CodeUnitUnknown, fmt.Sprintf("%q is no unit of %s", name, dimensionName(d)),
			"units: " + strings.Join(unitNames(d), ", ")}
	}
	if len(text) != len(number)+1+len(u.name) || text[len(number)] != ' ' || text[len(number)+1:] != u.name {
		text = number + " " + u.name
	}
	if n, err := strconv.ParseInt(number, 10, 64); err == nil && n <= math.MaxInt64/u.num {
		return Scalar{Dimension: d, Text: text, num: n * u.num, den: u.den}, nil
	}
	rat, _ := new(big.Rat).SetString(number)
	return Scalar{Dimension: d, Text: text, big: rat.Mul(rat, big.NewRat(u.num, u.den))}, nil
}

// maxDigits bounds the digits before and after the point.
const maxDigits = 18

// splitScalar parts "16.5 GiB" into its number and unit.
func splitScalar(s string) (number, name string, ok bool) {
	whole := digits(s)
	at := whole
	if whole > 0 && at < len(s) && s[at] == '.' {
		part := digits(s[at+1:])
		if part == 0 || part > maxDigits {
			return "", "", false
		}
		at += 1 + part
	}
	name = strings.TrimLeft(s[at:], " \t")
	for i := range len(name) {
		if c := name[i] | 0x20; c < 'a' || c > 'z' {
			return "", "", false
		}
	}
	return s[:at], name, whole > 0 && whole <= maxDigits
}

func digits(s string) int {
	n := 0
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
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
