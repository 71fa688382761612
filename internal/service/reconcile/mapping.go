package reconcile

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"andamio/internal/core/fault"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/site/drivers"
)

// ShippedMapping is the text of the mapping that ships for a driver's sites, to begin an own one with.
func ShippedMapping(name string) ([]byte, error) {
	d, err := drivers.Named(name)
	if err != nil {
		return nil, err
	}
	return d.Mapping, nil
}

// MappingPreview is what a mapping makes of what was observed.
type MappingPreview struct {
	Observations int            `json:"observations"`
	Untaken      int            `json:"untaken"`
	Classes      []MappingClass `json:"classes"`
	Errors       []string       `json:"errors,omitempty"`
}

// MappingClass is one class of a preview, with an example.
type MappingClass struct {
	Class   kinds.Kind `json:"class"`
	Count   int        `json:"count"`
	Example string     `json:"example"`
}

// PreviewMapping reads a mapping, that of the workspace if none is named, and says what it makes of what surveys saw.
// Nothing is changed.
func (svc *Service) PreviewMapping(ctx context.Context, name string) (*MappingPreview, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	m, err := svc.workspace.Mapping()
	if name != "" {
		var data []byte
		if data, err = os.ReadFile(name); err != nil {
			return nil, err
		}
		if m, err = mapping.Read(data); err != nil {
			return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", name, err))
		}
		shipped, err := svc.workspace.ShippedMapping()
		if err != nil {
			return nil, err
		}
		m = m.Over(shipped)
	}
	if err != nil {
		return nil, err
	}
	seen, err := svc.store.Observations(ctx)
	if err != nil {
		return nil, err
	}
	out := &MappingPreview{Observations: len(seen)}
	for i := range seen {
		if _, taken, _ := m.Record(&seen[i]); !taken {
			out.Untaken++
		}
	}
	records, errs := m.Records(seen)
	for _, e := range errs {
		out.Errors = append(out.Errors, e.Error())
	}
	classes := map[kinds.Kind]*MappingClass{}
	for i := range records {
		r := &records[i]
		if classes[r.Class] == nil {
			classes[r.Class] = &MappingClass{Class: r.Class, Example: inALine(r)}
		}
		classes[r.Class].Count++
	}
	for _, c := range slices.Sorted(maps.Keys(classes)) {
		out.Classes = append(out.Classes, *classes[c])
	}
	return out, nil
}

// inALine is a record in a line.
func inALine(r *inventory.Record) string {
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(r.Attributes)) {
		parts = append(parts, k+" "+r.Attributes[k])
	}
	return r.Name + ": " + strings.Join(parts, ", ")
}
