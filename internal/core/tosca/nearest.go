package tosca

// Nearest returns the known name that a mistyped one probably means, or "".
func Nearest(name string, known []string) string { return nearest(name, known) }

// nearest returns the known name with the smallest edit distance to name, or "" when none is near enough to be a
// plausible slip: at most a third of the name's length, and never more than three edits.
func nearest(name string, known []string) string {
	limit := min(3, max(1, len(name)/3))
	best, bestAt := "", limit+1
	for _, k := range known {
		if d := editDistance(name, k, bestAt); d < bestAt || (d == bestAt && best != "" && k < best) {
			best, bestAt = k, d
		}
	}
	return best
}

// editDistance counts insertions, deletions, substitutions and swaps of neighbours between a and b; it may stop early
// with any number above limit.
func editDistance(a, b string, limit int) int {
	if d := len(a) - len(b); d > limit || -d > limit {
		return limit + 1
	}
	before, prev, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			row[j] = min(prev[j]+1, row[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, prev, row = prev, row, before
	}
	return prev[len(b)]
}
