package front

import (
	"encoding/json"
	"fmt"
	"time"
)

// Table is all that answering takes: the fronts, and their members as they are at a moment.
type Table struct {
	File *File
	// Members are those of each front, by its name.
	Members map[string][]Member
	// Between are the milliseconds between sites, measured one way.
	Between map[string]map[string]float64
	// At is when it was so last.
	At time.Time
}

// kept is a table as it is written: the fronts as the text that they were read from.
type kept struct {
	Fronts  string                        `json:"fronts"`
	Members map[string][]Member           `json:"members"`
	Between map[string]map[string]float64 `json:"between,omitempty"`
	At      time.Time                     `json:"at"`
}

// Write is a table as text, with the text that its fronts were read from.
func (t *Table) Write(fronts []byte) ([]byte, error) {
	return json.Marshal(kept{string(fronts), t.Members, t.Between, t.At})
}

// ReadTable reads what Write wrote: the last good state, which is answered from when nothing else is known.
func ReadTable(data []byte) (*Table, error) {
	var k kept
	if err := json.Unmarshal(data, &k); err != nil {
		return nil, fmt.Errorf("what was known of fronts last cannot be read: %w", err)
	}
	f, err := Read([]byte(k.Fronts))
	if err != nil {
		return nil, err
	}
	return &Table{f, k.Members, k.Between, k.At}, nil
}

// Front is the one of a name; nil if there is none.
func (t *Table) Front(name string) *Front {
	for i := range t.File.Fronts {
		if t.File.Fronts[i].Name == name {
			return &t.File.Fronts[i]
		}
	}
	return nil
}

// between is how far one site is from another: by what either measured.
func (t *Table) between(a, b string) (float64, bool) {
	if a == b {
		return 0, true
	}
	if ms, known := t.Between[a][b]; known {
		return ms, true
	}
	ms, known := t.Between[b][a]
	return ms, known
}

// Away is how far the sites of a front's members are from a region.
func (t *Table) Away(r *Region, members []Member) map[string]float64 {
	if r == nil {
		return nil
	}
	sites := make([]string, 0, len(members))
	for i := range members {
		sites = append(sites, members[i].Site)
	}
	return r.Away(t.between, sites)
}
