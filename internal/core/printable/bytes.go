package printable

import (
	"strconv"
	"strings"
)

// Bytes is a number of bytes in the largest binary unit (IEC 80000-13) of which there is one, with one decimal where there are few.
func Bytes(n int64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB", "PiB"}
	x, unit := float64(n), 0
	for ; x >= 1023.95 && unit < len(units)-1; unit++ {
		x /= 1024
	}
	decimals := 0
	if unit > 0 && x < 99.95 {
		decimals = 1
	}
	return strings.TrimSuffix(strconv.FormatFloat(x, 'f', decimals, 64), ".0") + " " + units[unit]
}
