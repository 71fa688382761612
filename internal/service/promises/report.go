package promises

import (
	"bytes"
	"context"
	"path/filepath"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/promise"
	"andamio/internal/draw"
	"andamio/internal/durable"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
)

// mostReported is how many times are looked at of each promise for a report.
const mostReported = 100_000

// Report says how what is promised of what the actor may see was kept within a period.
func (svc *Service) Report(ctx context.Context, from, to time.Time) (*promise.Report, error) {
	all, err := svc.store.Promises(ctx)
	if err != nil {
		return nil, err
	}
	all, err = acting.Seen(ctx, svc.desk, all, func(p promise.Promise) guard.Thing { return guard.Thing{Deployment: p.Deployment} })
	if err != nil {
		return nil, err
	}
	if !from.Before(to) {
		return nil, fault.Invalidf("a period ends after it begins")
	}
	out := &promise.Report{From: from, To: to}
	for i := range all {
		p := &all[i]
		d, err := svc.store.Deployment(ctx, p.Deployment)
		if fault.CodeOf(err) == fault.NotFound {
			continue
		}
		if err != nil {
			return nil, err
		}
		fired, err := svc.store.PromiseFirings(ctx, p.Deployment, p.Kind, mostReported)
		if err != nil {
			return nil, err
		}
		out.Lines = append(out.Lines, promise.Within(p, d.Name, firings(fired, p), from, to))
	}
	return out, nil
}

// WriteReport writes a report into a folder, as pictures and as a table, and returns the files.
func (svc *Service) WriteReport(ctx context.Context, from, to time.Time, dir string) ([]string, error) {
	r, err := svc.Report(ctx, from, to)
	if err != nil {
		return nil, err
	}
	var files []string
	for _, format := range draw.Formats {
		file := filepath.Join(dir, "promises."+format)
		if err := deployments.WritePicture(draw.Promises(r), file, format); err != nil {
			return files, err
		}
		files = append(files, file)
	}
	var text bytes.Buffer
	if err := r.WriteCSV(&text); err != nil {
		return files, err
	}
	file := filepath.Join(dir, "promises.csv")
	return append(files, file), durable.Write(file, text.Bytes())
}
