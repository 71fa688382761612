package promise

import (
	"encoding/csv"
	"io"
	"strconv"
	"time"
)

// Report is how promises were kept within a period.
type Report struct {
	From  time.Time `json:"from"`
	To    time.Time `json:"to"`
	Lines []Line    `json:"lines"`
}

// Line is how one promise was kept.
type Line struct {
	Deployment int64  `json:"deployment"`
	Name       string `json:"name"`
	Level      string `json:"level,omitempty"`
	Kind       Kind   `json:"kind"`
	Words      string `json:"words"`
	// Marks are the times at which something was due in the period, the oldest first.
	Marks  []Mark `json:"marks,omitempty"`
	Kept   int    `json:"kept"`
	Late   int    `json:"late"`
	Broken int    `json:"broken"`
	// Unproven says that nothing was due, or nothing of it was kept.
	Unproven bool `json:"unproven,omitempty"`
}

// Within is how a promise was kept within a period, which ends before To, by what was done.
func Within(p *Promise, name string, all []Firing, from, to time.Time) Line {
	var due []Firing
	for _, f := range all {
		if !f.At.Before(from) && f.At.Before(to) {
			due = append(due, f)
		}
	}
	proof := ProofOf(due)
	return Line{Deployment: p.Deployment, Name: name, Level: p.Level, Kind: p.Kind, Words: p.Words(), Marks: proof.Marks, Kept: proof.Kept, Late: proof.Late, Broken: proof.Broken, Unproven: proof.Unproven() && p.Kind != Guarded}
}

// Sum is how often something was due in all, and how often it was kept, late and broken.
func (r *Report) Sum() (due, kept, late, broken int) {
	for i := range r.Lines {
		kept, late, broken = kept+r.Lines[i].Kept, late+r.Lines[i].Late, broken+r.Lines[i].Broken
	}
	return kept + late + broken, kept, late, broken
}

// WriteCSV writes a row for every time at which something was due, after one that names the columns (RFC 4180). Times are of UTC.
func (r *Report) WriteCSV(w io.Writer) error {
	out := csv.NewWriter(w)
	if err := out.Write([]string{"deployment", "name", "level", "promised", "due", "state", "note"}); err != nil {
		return err
	}
	for i := range r.Lines {
		l := &r.Lines[i]
		for _, m := range l.Marks {
			row := []string{strconv.FormatInt(l.Deployment, 10), plain(l.Name), plain(l.Level), plain(l.Words), m.At.UTC().Format(time.RFC3339), string(m.State), plain(m.Note)}
			if err := out.Write(row); err != nil {
				return err
			}
		}
	}
	out.Flush()
	return out.Error()
}

// plain is a text that no program that reads tables takes for a formula.
func plain(text string) string {
	if text != "" && (text[0] == '=' || text[0] == '+' || text[0] == '-' || text[0] == '@') {
		return "'" + text
	}
	return text
}
