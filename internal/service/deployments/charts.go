package deployments

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"andamio/internal/core/cost"
	"andamio/internal/core/migrate"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/core/usage"
	"andamio/internal/draw"
)

// ExportCharts writes the charts of a placement, capacity before and after and cost by site, in every format into a folder,
// where stands is what stands of it already, and returns the files' names. Without a placement only the capacity is drawn.
func ExportCharts(name string, p *placement.Problem, placed, stands *placement.Placement, dir string) ([]string, error) {
	charts := map[string]*draw.Picture{"capacity": draw.Capacity(name, usage.Of(p.Estate, placed, stands))}
	order := []string{"capacity"}
	if placed != nil {
		charts["cost"] = draw.CostBySite(name, p.Estate.Currency, cost.Sums(p, placed, "site"))
		order = append(order, "cost")
	}
	var files []string
	for _, what := range order {
		for _, format := range draw.Formats {
			file := filepath.Join(dir, fmt.Sprintf("%s-%s.%s", fileName(name), what, format))
			if err := WritePicture(charts[what], file, format); err != nil {
				return files, err
			}
			files = append(files, file)
		}
	}
	return files, nil
}

// WritePicture writes a picture; what could not be written whole is removed.
func WritePicture(pic *draw.Picture, file, format string) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	if err := pic.Write(f, format); err != nil {
		f.Close()
		os.Remove(file)
		return err
	}
	return f.Close()
}

// ExportMove writes what was left to copy of a workload, and its run-book, in every format into a folder, and returns the
// files' names. Without a state what is expected is drawn.
func ExportMove(p *plan.Plan, s *run.State, instance string, load migrate.Load, dir string) ([]string, error) {
	now := time.Now()
	curve, down := migrate.CurveOf(s, instance, load, now), -1.0
	if curve.Pause >= 0 && curve.Whole > curve.Now { // otherwise it is over
		down = migrate.DownWith(p, instance, curve.Pause)
	}
	var files []string
	for what, pic := range map[string]*draw.Picture{
		"rounds":   draw.Rounds(instance+": what is left to copy", curve, down),
		"run-book": draw.RunBook(instance+": run-book", migrate.Book(p, s, instance, now)),
	} {
		for _, format := range draw.Formats {
			file := filepath.Join(dir, fmt.Sprintf("%s-%s.%s", fileName(instance), what, format))
			if err := WritePicture(pic, file, format); err != nil {
				return files, err
			}
			files = append(files, file)
		}
	}
	slices.Sort(files)
	return files, nil
}
