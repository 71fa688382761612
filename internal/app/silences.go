package app

import "time"

// Sites that cannot be surveyed when they are due are tried again, ever more seldom.
const (
	firstSilence = time.Minute
	mostSilence  = 15 * time.Minute
)

// silences says when sites that could not be surveyed are tried again.
type silences map[string]silence

type silence struct {
	wait  time.Duration
	until time.Time
}

// waits reports that a site is left alone for now.
func (s silences) waits(site string, now time.Time) bool { return now.Before(s[site].until) }

// took says what came of trying.
func (s silences) took(site string, err error, now time.Time) {
	if err == nil {
		delete(s, site)
		return
	}
	wait := min(max(2*s[site].wait, firstSilence), mostSilence)
	s[site] = silence{wait, now.Add(wait)}
}
