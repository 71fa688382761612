package store

import (
	"time"

	"andamio/internal/core/inventory"
	"andamio/internal/core/mapping"
)

// SurveyState is how a survey, or a region of it, is.
type SurveyState string

// The states. A partial survey saw some regions and not others.
const (
	SurveyGoing   SurveyState = "under way"
	SurveyDone    SurveyState = "done"
	SurveyPartial SurveyState = "partial"
	SurveyFailed  SurveyState = "failed"
	SurveyStopped SurveyState = "stopped"
)

// Survey is one look at all of a site.
type Survey struct {
	ID      int64        `json:"id"`
	Site    string       `json:"site"`
	Deep    bool         `json:"deep,omitempty"`
	Started time.Time    `json:"started"`
	Ended   time.Time    `json:"ended,omitzero"`
	Beat    time.Time    `json:"-"`
	State   SurveyState  `json:"state"`
	Parts   []SurveyPart `json:"regions"`
}

// SurveyPart is one region of a survey.
type SurveyPart struct {
	Region string `json:"region"`
	// Kind and Cursor are how far the listing got.
	Kind   string      `json:"-"`
	Cursor string      `json:"-"`
	Found  int         `json:"found"`
	State  SurveyState `json:"state"`
	Error  string      `json:"error,omitempty"`
}

// Sight is what one thing is now, by word of notices; a nil Observation says that it is gone.
type Sight struct {
	Site, ID    string
	Observation *mapping.Observation
	// Notices are the notices that told.
	Notices []string
}

// Covered is when a region was seen last, tried last, and what kept the last try from it.
type Covered struct {
	Site, Region string
	Seen, Tried  time.Time
	Error        string
}

// TrendPoint is how many findings there were at a time.
type TrendPoint struct {
	At     time.Time
	Counts map[inventory.Type]int
}

// Found is how many things were seen.
func (s Survey) Found() int {
	n := 0
	for _, p := range s.Parts {
		n += p.Found
	}
	return n
}
