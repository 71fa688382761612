package reconcile

import (
	"context"
	"fmt"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"andamio/internal/core/capture"
	"andamio/internal/core/declare"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/inventory"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/service/acting"
	"andamio/internal/store"
)

// filesMemory is how much memory a reconciliation of files aims to stay under: a million rows fit.
const filesMemory = 1200 << 20

// ReconcileFiles compares sources that are files: tables (CSV) or JSON Lines; what is declared may also be a plan. A name
// that is "" is a source that says nothing. Everything there is counts as seen.
func (svc *Service) ReconcileFiles(declared, recorded, observed string) (*inventory.Report, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	debug.SetMemoryLimit(filesMemory)
	var in inventory.Input
	for _, f := range []struct {
		name string
		into *inventory.Source
	}{{declared, &in.Declared}, {recorded, &in.Recorded}, {observed, &in.Observed}} {
		if f.name == "" {
			continue
		}
		data, err := os.ReadFile(f.name)
		if err != nil {
			return nil, err
		}
		if *f.into, err = readSource(data); err != nil {
			return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", f.name, err))
		}
	}
	m, err := svc.workspace.Mapping()
	if err != nil {
		return nil, err
	}
	in.Rules, in.Now = m.Authority, time.Now()
	return inventory.Reconcile(in), nil
}

func readSource(data []byte) (inventory.Source, error) {
	if strings.Contains(string(data[:min(len(data), 200)]), plan.Version) {
		p, err := plan.Read(data)
		if err != nil {
			return nil, err
		}
		return declare.Records(declare.Deployment{Name: p.Name}, p), nil
	}
	return inventory.ReadAny(data)
}

// ExportRecords writes the inventory: as JSON Lines where the name ends in .jsonl, else as a table.
func (svc *Service) ExportRecords(ctx context.Context, name string) (out int, err error) {
	err = svc.desk.Do(ctx, guard.ExportRecord, guard.Named("the records"), func() (err error) {
		out, err = svc.exportRecords(ctx, name)
		return err
	}, acting.Saying("to %s", name))
	return out, err
}

func (svc *Service) exportRecords(ctx context.Context, name string) (int, error) {
	records, err := svc.store.Records(ctx)
	if err != nil {
		return 0, err
	}
	data := inventory.WriteTable(records)
	if strings.HasSuffix(name, ".jsonl") {
		if data, err = inventory.WriteLines(records); err != nil {
			return 0, err
		}
	}
	return len(records), os.WriteFile(name, data, 0o644)
}

// Imported is what bringing records in would do.
type Imported struct {
	Added   int `json:"added"`
	Changed int `json:"changed"`
	Same    int `json:"same"`
	changes []store.RecordChange
}

// ImportRecords works out what bringing in the records of a file would do to the inventory. Records that the file does
// not have stay.
func (svc *Service) ImportRecords(ctx context.Context, name string) (*Imported, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return nil, err
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	source, err := inventory.ReadAny(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", name, err))
	}
	records, ok := source.(inventory.Records)
	if table, is := source.(*inventory.Table); is {
		if records, err = table.All(); err != nil {
			return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", name, err))
		}
	} else if !ok {
		return nil, fault.Invalidf("this is no inventory")
	}
	now, err := svc.store.Records(ctx)
	if err != nil {
		return nil, err
	}
	have := map[string]*inventory.Record{}
	for i := range now {
		have[now[i].ID] = &now[i]
	}
	out := &Imported{}
	for i := range records {
		r := &records[i]
		before := have[r.ID]
		switch {
		case before == nil:
			out.Added++
		case string(inventory.WriteTable(inventory.Records{*before})) == string(inventory.WriteTable(inventory.Records{*r})):
			out.Same++
			continue
		default:
			out.Changed++
		}
		out.changes = append(out.changes, store.RecordChange{ID: r.ID, Before: before, After: r, Why: "brought in from " + name})
	}
	return out, nil
}

// what says what would be brought in.
func (i *Imported) what() string { return printable.Count(len(i.changes), "record") }

// Import brings records in, as an act that can be undone.
func (svc *Service) Import(ctx context.Context, i *Imported) (out int64, err error) {
	err = svc.desk.Do(ctx, guard.ImportRecord, guard.Named(i.what()), func() (err error) {
		out, err = svc.bringIn(ctx, i)
		return err
	})
	return out, err
}

func (svc *Service) bringIn(ctx context.Context, i *Imported) (int64, error) {
	return svc.store.RecordSettlement(ctx, svc.desk.Actor.Name, time.Now(), store.SettlementChanges{Body: []byte(`{"items":[]}`), Changes: i.changes})
}

// Fragment is the part of a template that would declare a record.
func (svc *Service) Fragment(ctx context.Context, id string) (string, error) {
	if err := svc.desk.Read("the inventory"); err != nil {
		return "", err
	}
	records, err := svc.store.Records(ctx)
	if err != nil {
		return "", err
	}
	for i := range records {
		if records[i].ID == id || records[i].Name == id {
			return capture.Fragment(&records[i])
		}
	}
	return "", fault.NotFoundf("there is no record %q", id)
}
