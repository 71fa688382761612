package inventory

import (
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
)

// Type is what sort of disagreement a finding is.
type Type string

// The types. Missing is declared or recorded and not there; unmanaged is there, and nobody declared or recorded it;
// changed differs in attributes; duplicate is one thing twice; moved is at another site than recorded; stale was not
// seen for so long that nobody can say.
const (
	Changed   Type = "changed"
	Unmanaged Type = "unmanaged"
	Missing   Type = "missing"
	Moved     Type = "moved"
	Duplicate Type = "duplicate"
	Stale     Type = "stale"
)

// Types in the order in which they are shown.
var Types = []Type{Changed, Unmanaged, Missing, Moved, Duplicate, Stale}

// Way is a way to settle a finding.
type Way string

// The ways. Adopt makes ours what the site has; CorrectRecord and CorrectSite make the record or the site what counts;
// Retire gives the thing up; Ignore leaves it as it is for a while. Same and Apart answer whether two are one thing.
const (
	Adopt         Way = "adopt"
	CorrectRecord Way = "correct-record"
	CorrectSite   Way = "correct-site"
	Retire        Way = "retire"
	Ignore        Way = "ignore"
	Same          Way = "same"
	Apart         Way = "apart"
)

// Ways are all ways, the most common first.
var Ways = []Way{Adopt, CorrectRecord, CorrectSite, Retire, Same, Apart, Ignore}

// Difference is one attribute in which the sources disagree. A source that says nothing of it has "".
type Difference struct {
	Attribute string    `json:"attribute"`
	Authority Authority `json:"authority"`
	Declared  string    `json:"declared,omitempty"`
	Recorded  string    `json:"recorded,omitempty"`
	Observed  string    `json:"observed,omitempty"`
	// Right is the value that counts, by the authority.
	Right string `json:"right"`
}

// Finding is one disagreement between what is declared, recorded and observed.
type Finding struct {
	// ID is the same from one survey to the next, as long as it is the same disagreement on the same thing.
	ID    string     `json:"id"`
	Type  Type       `json:"type"`
	Class kinds.Kind `json:"class"`
	Name  string     `json:"name"`
	Site  string     `json:"site"`
	// Declared, Recorded and Observed are what each source says, nil where it knows nothing of the thing.
	Declared *Record `json:"declared,omitempty"`
	Recorded *Record `json:"recorded,omitempty"`
	Observed *Record `json:"observed,omitempty"`
	// Other is the second of a duplicate: an observation, or a record if OtherRecorded.
	Other         *Record      `json:"other,omitempty"`
	OtherRecorded bool         `json:"other_recorded,omitempty"`
	Differences   []Difference `json:"differences,omitempty"`
	// Match says why they are one thing; Review that a person should say whether they are.
	Match  Match `json:"match,omitzero"`
	Review bool  `json:"review,omitempty"`
	// Carries are the names of what goes with it and is no finding of its own.
	Carries []string `json:"carries,omitempty"`
	// CostPerHour is what it costs while nobody settles it; Endangers are services that suffer from it.
	CostPerHour money.Amount `json:"cost_per_hour,omitempty"`
	Endangers   []string     `json:"endangers,omitempty"`
	// Rank orders findings, the highest first; Why says it in sentences.
	Rank float64  `json:"rank"`
	Why  []string `json:"why"`
	// Ways are how it can be settled, the suggested one first.
	Ways []Way `json:"ways"`
}

// Subject is the record that names the thing best.
func (f *Finding) Subject() *Record {
	for _, r := range []*Record{f.Recorded, f.Declared, f.Observed} {
		if r != nil {
			return r
		}
	}
	return &Record{}
}

// Can reports that a way is open.
func (f *Finding) Can(w Way) bool {
	for _, x := range f.Ways {
		if x == w {
			return true
		}
	}
	return false
}

// Ignored is a finding that a person let be until a time; zero is for good. It counts only while the finding is what it
// was.
type Ignored struct {
	Finding string    `json:"finding"`
	Until   time.Time `json:"until,omitzero"`
}

// identify names a finding by what it is about and what it says, so that a further change is another finding.
func (f *Finding) identify() {
	h := fnv.New64a()
	say := func(r *Record) {
		if r != nil {
			fmt.Fprintf(h, "%s\x00%s\x00%s\x00", r.ID, r.Provider, r.Site)
		}
		h.Write([]byte{1})
	}
	fmt.Fprintf(h, "%s\x00", f.Type)
	say(f.Declared)
	say(f.Recorded)
	say(f.Observed)
	say(f.Other)
	if f.Type == Unmanaged { // nothing is known of it to differ from: what it is counts itself
		for _, k := range slices.Sorted(maps.Keys(f.Observed.Attributes)) {
			if k != AttrCost {
				fmt.Fprintf(h, "%s\x00%s\x00", k, f.Observed.Attributes[k])
			}
		}
	}
	for _, d := range f.Differences {
		fmt.Fprintf(h, "%s\x00%s\x00%s\x00%s\x00", d.Attribute, d.Declared, d.Recorded, d.Observed)
	}
	f.ID = fmt.Sprintf("%s-%012x", f.Type, h.Sum64()&0xffffffffffff)
}
