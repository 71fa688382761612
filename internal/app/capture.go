package app

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"andamio/internal/core/capture"
)

// Capture writes a template of what stands of a deployment into a new or empty folder, and returns the names of its files.
func (a *App) Capture(ctx context.Context, deployment int64, dir string) ([]string, error) {
	d, err := a.Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	if d.Stand.Empty() {
		return nil, fmt.Errorf("nothing stands of deployment %d", deployment)
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, fmt.Errorf("%s is not empty: name a new folder", dir)
	}
	if err := d.Stand.Plan.Arrange(); err != nil {
		return nil, err
	}
	files, err := capture.Template(d.Stand.Plan)
	if err != nil {
		return nil, err
	}
	var names []string
	for name, data := range files {
		if !filepath.IsLocal(name) {
			return nil, fmt.Errorf("the file %q leads out of the folder", name)
		}
		to := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(to, data, 0o644); err != nil {
			return nil, err
		}
		names = append(names, name)
	}
	slices.Sort(names)
	return names, nil
}
