package deployments

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"andamio/internal/core/capture"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/tosca"
	"andamio/internal/service/templates"
)

// captured are the files of a template of what stands: those that it was made from, as they were then, with the values that
// it was given, where they say the whole of it; else what can be told of its parts.
func (svc *Service) captured(ctx context.Context, d *Deployment) (capture.Files, error) {
	for _, find := range []func(context.Context, *Deployment) (*templates.Template, error){svc.kept, svc.atItsPlace} {
		t, err := find(ctx, d)
		if err != nil || t == nil || t.Diagnostics.Errors() > 0 {
			continue // it can be told of its parts
		}
		draft, order, err := svc.updating(ctx, d, t, templates.DraftRequest{})
		if err == nil && draft.Plan != nil && len(order.Plan.Steps) == 0 {
			return FilledIn(t, draft.Plan.Inputs)
		}
	}
	if err := d.Stand.Plan.Arrange(); err != nil {
		return nil, err
	}
	return capture.Template(d.Stand.Plan)
}

// atItsPlace is the template of a deployment as it is now where it was opened.
func (svc *Service) atItsPlace(ctx context.Context, d *Deployment) (*templates.Template, error) {
	return svc.inside().TemplateOf(ctx, d, templates.Place{})
}

// FilledIn are the files of a template with values as the defaults of its inputs.
func FilledIn(t *templates.Template, inputs map[string]any) (capture.Files, error) {
	all := t.Kept().Files
	maps.DeleteFunc(all, func(name string, _ []byte) bool { return tosca.Shipped(name) }) // the program brings them
	var err error
	if all[t.Root], err = capture.Given(all[t.Root], inputs); err != nil {
		return nil, err
	}
	return all, nil
}

// Capture writes a template of what stands of a deployment into a new or empty folder, and returns the names of its files.
func (svc *Service) Capture(ctx context.Context, deployment int64, dir string) ([]string, error) {
	if err := svc.desk.See(ctx, guard.Thing{Deployment: deployment}); err != nil {
		return nil, err
	}
	d, err := svc.inside().Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	if d.Stand.Empty() {
		return nil, fault.NotFoundf("nothing stands of deployment %d", deployment)
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, fault.Conflictf("%s is not empty: name a new folder", dir)
	}
	files, err := svc.captured(ctx, d)
	if err != nil {
		return nil, err
	}
	var names []string
	for name, data := range files {
		if !filepath.IsLocal(name) {
			return nil, fault.Refusedf("the file %q leads out of the folder", name)
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
