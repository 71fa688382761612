package tosca

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"andamio/internal/core/fault"
)

// Pos is a place in a source file. Line and Col count from 1; Col counts characters.
type Pos struct {
	File string `json:"file"`
	Line int    `json:"line"`
	Col  int    `json:"column"`
}

func (p Pos) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Col) }

// Severity says whether a template can be used despite a diagnostic.
type Severity string

const (
	// Mistake makes the template unusable.
	Mistake Severity = "mistake"
	// Doubt is valid by the standard and probably not what was meant.
	Doubt Severity = "doubt"
)

// Diagnostic is one thing found wrong, with its place and what to do about it.
type Diagnostic struct {
	Pos
	// Width is how many characters from Col on are meant, at least 1.
	Width    int      `json:"width"`
	Code     Code     `json:"code"`
	Severity Severity `json:"severity"`
	// Message says what is wrong and why, Hint what to write instead; Hint may be empty.
	Message string `json:"message"`
	Hint    string `json:"hint,omitempty"`
	// Related is the other place involved, such as the declaration that is contradicted.
	Related *Pos `json:"related,omitempty"`
}

// Error renders the diagnostic on one line.
func (d Diagnostic) Error() string {
	text := fmt.Sprintf("%s: %s: %s [%s]", d.Pos, d.Severity, d.Message, d.Code)
	if d.Hint != "" {
		text += "; " + d.Hint
	}
	return text
}

// Diagnostics is everything that was found, sorted by place.
type Diagnostics []Diagnostic

// Errors reports how many of the diagnostics are mistakes.
func (ds Diagnostics) Errors() int {
	n := 0
	for _, d := range ds {
		if d.Severity == Mistake {
			n++
		}
	}
	return n
}

// Error joins the diagnostics, one a line.
// Code is the class of the error: the template is to be mended.
func (ds Diagnostics) Code() fault.Code { return fault.Invalid }

func (ds Diagnostics) Error() string {
	lines := make([]string, len(ds))
	for i, d := range ds {
		lines[i] = d.Error()
	}
	return strings.Join(lines, "\n")
}

// Sort orders diagnostics by place and drops exact repeats.
func (ds *Diagnostics) Sort() { ds.sort() }

// sort orders diagnostics by file, line, column and code, and drops exact repeats.
func (ds *Diagnostics) sort() {
	slices.SortStableFunc(*ds, func(a, b Diagnostic) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line),
			cmp.Compare(a.Col, b.Col), cmp.Compare(a.Code, b.Code), cmp.Compare(a.Message, b.Message))
	})
	*ds = slices.CompactFunc(*ds, func(a, b Diagnostic) bool {
		return a.Pos == b.Pos && a.Code == b.Code && a.Message == b.Message
	})
}

// place is a spot in the source together with how many characters it spans.
type place struct {
	Pos
	width int
}

// at reports a mistake. The returned pointer is valid until the next report and lets the caller add to it.
func (ds *Diagnostics) at(p place, code Code, format string, args ...any) *Diagnostic {
	*ds = append(*ds, Diagnostic{
		Pos: p.Pos, Width: max(p.width, 1), Code: code, Severity: Mistake, Message: fmt.Sprintf(format, args...),
	})
	return &(*ds)[len(*ds)-1]
}

// doubt turns the diagnostic into one that does not make the template unusable.
func (d *Diagnostic) doubt() *Diagnostic { d.Severity = Doubt; return d }

// hint says what to write instead.
func (d *Diagnostic) hint(format string, args ...any) *Diagnostic {
	d.Hint = fmt.Sprintf(format, args...)
	return d
}

// see names the other place involved.
func (d *Diagnostic) see(p Pos) *Diagnostic {
	if p.Line > 0 {
		d.Related = &p
	}
	return d
}

// suggest hints at the known name nearest to a mistyped one, or lists the names if they are few.
func (d *Diagnostic) suggest(name string, known []string) *Diagnostic {
	if near := nearest(name, known); near != "" {
		return d.hint("did you mean %q?", near)
	}
	if len(known) > 0 && len(known) <= 8 {
		sorted := slices.Sorted(slices.Values(known))
		return d.hint("one of: %s", strings.Join(sorted, ", "))
	}
	return d
}
