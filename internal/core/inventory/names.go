package inventory

import "strings"

// nameLikeness compares names: 1 for equal ones, less for those that differ in spelling, 0 for different ones. Names
// that differ in a number are different: they are siblings.
func nameLikeness(a, b string) float64 {
	if a == b {
		return 1
	}
	x, y := plain(a), plain(b)
	switch {
	case x == y:
		return 0.85
	case digits(x) != digits(y):
		return 0
	case min(len(x), len(y)) >= 6 && near(x, y): // whichever is asked for first
		return 0.6
	}
	return 0
}

// plain is a name in lower case, without its domain and without separators.
func plain(name string) string {
	name, _, _ = strings.Cut(strings.ToLower(name), ".")
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '_' || r == ' ' {
			return -1
		}
		return r
	}, name)
}

func digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return r
		}
		return -1
	}, s)
}

// near reports that one letter more, less, other, or two exchanged lead from one text to the other.
func near(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(b)-len(a) > 1 {
		return false
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	if len(a) < len(b) {
		return a[i:] == b[i+1:]
	}
	return i >= len(a) || a[i+1:] == b[i+1:] || i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
}
