package app

import (
	"context"
	"maps"
	"os"

	"andamio/internal/core/plan"
	"andamio/internal/source"
	"andamio/internal/store"
)

// source are the files that the template was read from, as they are kept: all that it names, and its presets.
func (t *Template) source() store.Source {
	out := store.Source{Root: t.Root, Files: map[string][]byte{}}
	if t.Template == nil {
		return out
	}
	maps.Copy(out.Files, t.Sources)
	maps.Copy(out.Files, t.Artifacts)
	return out
}

// Digest is the same for the same files: the SHA-256 of their names and contents.
func (t *Template) Digest() string { return t.source().Digest() }

// keepSource keeps the files of the template that a plan was compiled from, so that what stands of it can be told whole
// when the template has changed or gone. Files that are not those any more are not kept, and no run is held up for them.
func (a *App) keepSource(ctx context.Context, p *plan.Plan) error {
	if p == nil || p.Source == "" {
		return nil
	}
	if kept, err := a.store.Source(ctx, p.Source); err != nil || kept != nil {
		return err
	}
	if t, known := a.drawn.Load(p.Source); known {
		return a.store.KeepSource(ctx, p.Source, t.(*Template).source())
	}
	t, err := reopened(ctx, p)
	if err != nil || t == nil || t.Digest() != p.Source {
		return nil
	}
	return a.store.KeepSource(ctx, p.Source, t.source())
}

// reopened is the template of a plan, where it is at hand: the scenario, or a folder or file on this machine.
func reopened(ctx context.Context, p *plan.Plan) (*Template, error) {
	if p.Template == DemoName {
		return DemoTemplate()
	}
	if _, err := os.Stat(p.Template); err != nil || p.Revision != "" {
		return nil, err
	}
	return OpenTemplate(ctx, source.Place{Path: p.Template})
}

// kept is the template that a deployment stands as, as it was when it was drawn; nil if its files were not kept.
func (a *App) kept(ctx context.Context, d *Deployment) (*Template, error) {
	if d.Stand.Plan.Source == "" {
		return nil, nil
	}
	s, err := a.store.Source(ctx, d.Stand.Plan.Source)
	if err != nil || s == nil {
		return nil, err
	}
	return ReadTemplate(source.Memory(s.Files), d.Template, s.Root)
}
