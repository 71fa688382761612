// Package money counts money exactly: in whole millionths of a unit of currency, which no sum rounds. A price a GiB or a core
// is a number like any other; what something costs is an Amount from the moment it is worked out.
//
// 0.1 and 0.0084 of a unit are 100000 and 8400 millionths; together they are 0.1084, and written so.
package money

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Amount is an amount in millionths of the unit of the estate's currency. Costs are amounts per hour.
type Amount int64

// Unit is one unit of the currency.
const Unit Amount = 1_000_000

// decimals is how many places an Amount has after the point.
const decimals = 6

// Of is a number of units as an amount, rounded to the nearest millionth. What is no number, or too large, is nothing, or the
// most there is.
func Of(units float64) Amount {
	x := math.Round(units * float64(Unit))
	switch {
	case math.IsNaN(x):
		return 0
	case x >= math.MaxInt64:
		return math.MaxInt64
	case x <= math.MinInt64:
		return math.MinInt64
	}
	return Amount(x)
}

// Units is the amount as a number of units, for drawing and for comparing with what is no money.
func (a Amount) Units() float64 { return float64(a) / float64(Unit) }

// Times is the amount a number of times, rounded to the nearest millionth.
func (a Amount) Times(x float64) Amount { return Of(a.Units() * x) }

// Sum adds amounts up.
func Sum(all ...Amount) Amount {
	var out Amount
	for _, a := range all {
		out += a
	}
	return out
}

// String is the amount in units with as many decimals as it has: 0.1084.
func (a Amount) String() string {
	text := a.fixed(decimals)
	return strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
}

// fixed is the amount in units with so many decimals, at most six, halves away from zero.
func (a Amount) fixed(places int) string {
	sign, x := "", uint64(a)
	if a < 0 {
		sign, x = "-", -uint64(a)
	}
	step := uint64(1)
	for range decimals - places {
		step *= 10
	}
	x = (x + step/2) / step
	unit := uint64(Unit) / step
	if places == 0 {
		return sign + strconv.FormatUint(x, 10)
	}
	if x == 0 {
		sign = "" // nothing is not less than nothing
	}
	return fmt.Sprintf("%s%d.%0*d", sign, x/unit, places, x%unit)
}

// Format writes an amount as a number of units is written: %.3f, %+.3f and %8.3f round to so many decimals, %v and %s
// write all there are.
func (a Amount) Format(f fmt.State, verb rune) {
	text := a.String()
	if verb == 'f' || verb == 'g' {
		places, given := f.Precision()
		if verb == 'f' && !given {
			places, given = decimals, true
		}
		if given && verb == 'f' {
			text = a.fixed(min(places, decimals))
		}
	}
	if f.Flag('+') && !strings.HasPrefix(text, "-") {
		text = "+" + text
	}
	if w, given := f.Width(); given && len(text) < w {
		pad := strings.Repeat(" ", w-len(text))
		if f.Flag('-') {
			text += pad
		} else {
			text = pad + text
		}
	}
	_, _ = f.Write([]byte(text))
}

// MarshalJSON writes the amount as a JSON number of units, exactly.
func (a Amount) MarshalJSON() ([]byte, error) { return []byte(a.String()), nil }

// UnmarshalJSON reads a JSON number of units; what is finer than a millionth is rounded.
func (a *Amount) UnmarshalJSON(data []byte) error {
	if bytes.Equal(data, []byte("null")) {
		return nil
	}
	var x float64
	if err := json.Unmarshal(data, &x); err != nil {
		return fmt.Errorf("an amount of money is a number, not %s", data)
	}
	if math.Abs(x) > float64(math.MaxInt64/Unit) {
		return fmt.Errorf("%s is more money than can be counted", data)
	}
	*a = Of(x)
	return nil
}
