package moves

import (
	"time"

	"andamio/internal/core/calendar"
	"andamio/internal/core/change"
	"andamio/internal/core/fault"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
)

// Request says what is to be moved where, and how.
type Request struct {
	// What are instances, nodes or services of the deployment; all that they stand for is moved.
	What []string `json:"what"`
	// To is the site; "" has placement choose for each.
	To string `json:"to,omitempty"`
	// Not are sites that placement does not choose.
	Not []string `json:"not,omitempty"`
	// Like is what holds for all workloads that say nothing else: zone, size, address, names. Each says otherwise for one.
	Like migrate.Choice            `json:"like,omitzero"`
	Each map[string]migrate.Choice `json:"each,omitempty"`
	Mode change.Mode               `json:"mode"`
	// Pause is for how many seconds a live workload may stand still.
	Pause    float64 `json:"pause,omitempty"`
	Limit    int64   `json:"limit,omitempty"`
	Compress string  `json:"compress,omitempty"`
	// Window is a recurrence rule (RFC 5545, section 3.3.10) that says when copying may begin, and Hours for how long it may
	// go on each time; Zone is the time zone that is meant.
	Window   string  `json:"window,omitempty"`
	Hours    float64 `json:"hours,omitempty"`
	TimeZone string  `json:"time_zone,omitempty"`
	// AtOnce cuts over as soon as it can be.
	AtOnce bool `json:"at_once,omitempty"`
	// KeepLayers keeps the rounds apart at the target until the move is committed: less is to be done before the cutover,
	// and reading takes longer until then.
	KeepLayers bool `json:"keep_layers,omitempty"`
	// Lift are names of rules that the move may break; see [Breaking].
	Lift []string `json:"lift,omitempty"`
	// Side is the site from whose side the move is started; "" is one that may.
	Side string `json:"side,omitempty"`
	// Waves moves what does not fit one window in several; Groups are never torn apart.
	Waves  bool       `json:"waves,omitempty"`
	Groups [][]string `json:"groups,omitempty"`
}

// windowsAhead is how many windows are worked out beforehand.
const windowsAhead = 12

// Windows are the next windows in which may be copied; none is always.
func (w Request) Windows(now time.Time) ([]plan.Window, error) {
	if w.Window == "" {
		return nil, nil
	}
	if w.Hours <= 0 {
		return nil, fault.Invalidf("a window lasts for some hours: say for how many")
	}
	zone, err := calendar.Zone(w.TimeZone)
	if err != nil {
		return nil, err
	}
	length := time.Duration(w.Hours * float64(time.Hour))
	r, err := calendar.Parse(w.Window, zone, calendar.Midnight(now.AddDate(0, 0, -7), zone))
	if err != nil {
		return nil, err
	}
	var out []plan.Window
	for _, at := range r.After(now.Add(-length), windowsAhead) {
		out = append(out, plan.Window{From: at, To: at.Add(length)})
	}
	if len(out) == 0 {
		return nil, fault.Invalidf("the window %q does not open any more", w.Window)
	}
	return out, nil
}
