package app

import (
	"fmt"
	"os"
	"path/filepath"

	"andamio/internal/core/cost"
	"andamio/internal/core/placement"
	"andamio/internal/core/usage"
	"andamio/internal/draw"
)

// ExportCharts writes the charts of a placement, capacity before and after and cost by site, in every format into a folder,
// and returns the files' names. Without a placement only the capacity is drawn.
func ExportCharts(name string, p *placement.Problem, placed *placement.Placement, dir string) ([]string, error) {
	charts := map[string]*draw.Picture{"capacity": draw.Capacity(name, usage.Of(p.Estate, placed))}
	order := []string{"capacity"}
	if placed != nil {
		charts["cost"] = draw.CostBySite(name, p.Estate.Currency, cost.Sums(p, placed, "site"))
		order = append(order, "cost")
	}
	var files []string
	for _, what := range order {
		for _, format := range draw.Formats {
			file := filepath.Join(dir, fmt.Sprintf("%s-%s.%s", fileName(name), what, format))
			if err := writePicture(charts[what], file, format); err != nil {
				return files, err
			}
			files = append(files, file)
		}
	}
	return files, nil
}

// writePicture writes a picture; what could not be written whole is removed.
func writePicture(pic *draw.Picture, file, format string) error {
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
