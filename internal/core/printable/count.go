package printable

import "fmt"

// Count is a number of things, in words: "1 step", "2 steps".
func Count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}
