package front

import "time"

// Health is whether a member is taken to be up, by what asking it again and again came to.
type Health struct {
	Up    bool
	Since time.Time
	// row is how often in a row it was otherwise.
	row int
}

// How often in a row something has to be otherwise until it is believed: one lost packet takes nobody out, and one good answer of what has been down brings nobody back.
const (
	downAfter = 2
	upAfter   = 2
)

// Step takes what came of asking once, and reports whether it is otherwise than before.
func (h *Health) Step(good bool, now time.Time) (changed bool) {
	if good == h.Up {
		h.row = 0
		return false
	}
	h.row++
	if h.Up && h.row < downAfter || !h.Up && h.row < upAfter {
		return false
	}
	h.Up, h.Since, h.row = good, now.UTC(), 0
	return true
}

// Doubted reports that the last answer was otherwise than what is believed: it is asked again at once.
func (h *Health) Doubted() bool { return h.row > 0 }
