package printable_test

import (
	"fmt"

	"andamio/internal/core/printable"
)

// Text from outside is shown without its control sequences.
func ExampleClean() {
	fmt.Printf("%q\n", printable.Clean("gauge\x1b[2J-1\n"))
	fmt.Println(printable.Count(1, "disk"), printable.Count(3, "disk"))
	// Output:
	// "gauge-1 "
	// 1 disk 3 disks
}
