package plan

import "fmt"

// What a step of the kind mend bounds a volume by, as decimal numbers: how often a second it is read or written at most, and how many MiB. "" lifts it.
const (
	MendIOPerSecond = "io.per_second"
	MendIOMiB       = "io.mib_per_second"
)

// AttrLimited is the attribute that says by what a volume was bounded; see [Limited].
const AttrLimited = "io.limit"

// Limited says by what a volume of a site was bounded. It names the site's volume: one that was built again, or moved, is another and bounded by
// nothing.
func Limited(id string, perSecond int, mib float64) string {
	if perSecond == 0 && mib == 0 {
		return ""
	}
	return fmt.Sprintf("%s %d %g", id, perSecond, mib)
}
