package app

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"andamio/internal/core/capture"
	"andamio/internal/source"
)

// captured are the files of a template of what stands: those that the deployment was made from, with the values that it
// was given, where they say the whole of it; else what can be told of its parts.
func (a *App) captured(ctx context.Context, d *Deployment) (capture.Files, error) {
	if draft, order, err := a.Updating(ctx, d.ID, "", Wish{}); err == nil && draft.Plan != nil && len(order.Plan.Steps) == 0 {
		if files, err := filledIn(ctx, d, draft); err == nil {
			return files, nil
		}
	}
	if err := d.Stand.Plan.Arrange(); err != nil {
		return nil, err
	}
	return capture.Template(d.Stand.Plan)
}

// filledIn are the files of a deployment's template with what it was given as the defaults of its inputs.
func filledIn(ctx context.Context, d *Deployment, draft *Draft) (capture.Files, error) {
	t := draft.Template
	files := t.files
	if d.Template != DemoName { // those of a folder are closed by now
		tree, err := source.Open(ctx, source.Place{Path: d.Template})
		if err != nil {
			return nil, err
		}
		defer tree.Close()
		files = tree.Files
	}
	return withInputs(files, t.Root, draft.Plan.Inputs)
}

// withInputs are the files of a template with values as the defaults of its inputs.
func withInputs(files fs.FS, root string, inputs map[string]any) (capture.Files, error) {
	all, err := source.All(files)
	if err != nil {
		return nil, err
	}
	if all[root], err = capture.Given(all[root], inputs); err != nil {
		return nil, err
	}
	return capture.Files(all), nil
}

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
	files, err := a.captured(ctx, d)
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
