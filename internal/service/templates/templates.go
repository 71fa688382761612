// Package templates reads templates, works out drafts of them for an estate, and places them: what people look at before anything is
// begun. Nothing here is kept or changed but files that somebody asks for.
package templates

import (
	"context"
	"io/fs"
	"path"
	"slices"
	"strings"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/plan"
	"andamio/internal/core/rules"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
	"andamio/internal/source"
)

// Template is a template as it was opened, with what was found wrong with it.
type Template struct {
	// Dir names where it was opened from; Folder is that folder on disk, "" for an archive, a repository or the demo;
	// Root is the file in it, Revision the commit it was read at.
	Dir, Folder, Root, Revision string
	*tosca.Template
	Diagnostics tosca.Diagnostics
	Presets     []Preset

	// files are those it was read from; of a folder they are closed.
	files  fs.FS
	digest digest
	// sent says that its files are not where they were opened for long.
	sent bool
}

// Preset is a named set of inputs.
type Preset struct {
	Name, File  string
	Inputs      tosca.Inputs
	Diagnostics tosca.Diagnostics

	text []byte
}

// presetDir is the folder of a template's presets.
const presetDir = "presets"

// OpenTemplate opens a template: a file, a folder, an archive, or a revision of a repository. Nothing beside its files is
// read.
func OpenTemplate(ctx context.Context, p source.Place) (*Template, error) {
	tree, err := source.Open(ctx, p)
	if err != nil {
		return nil, err
	}
	defer tree.Close()
	t, err := ReadTemplate(tree.Files, tree.Dir, tree.Root)
	if err != nil {
		return nil, err
	}
	t.Folder, t.Revision, t.sent = tree.Folder, tree.Revision, p.Sent
	return t, nil
}

// File is a file that the template was read with, by its path there. One of a folder is closed by now: this is for those that are in an archive.
func (t *Template) File(name string) ([]byte, error) {
	if !fs.ValidPath(name) {
		return nil, fault.Invalidf("%q is no path in an archive", name)
	}
	text, err := source.Read(t.files, name)
	if err != nil {
		return nil, fault.As(fault.Invalid, err)
	}
	return text, nil
}

// ReadTemplate reads a template from a file system; dir is only the name shown for it.
func ReadTemplate(files fs.FS, dir, file string) (*Template, error) {
	if _, err := fs.Stat(files, file); err != nil {
		return nil, fault.NotFoundf("there is no template %s in %s: %w", file, dir, err)
	}
	open := func(name string) ([]byte, error) { return source.Read(files, name) }
	t := &Template{Dir: dir, Root: file, files: files}
	t.Template, t.Diagnostics = tosca.Read(file, open)
	names, err := fs.Glob(files, presetDir+"/*.yaml")
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		data, err := open(name)
		if err != nil {
			return nil, err
		}
		p := Preset{Name: strings.TrimSuffix(path.Base(name), ".yaml"), File: name, text: data}
		p.Inputs, p.Diagnostics = tosca.ReadInputs(name, data)
		t.Presets = append(t.Presets, p)
	}
	return t, nil
}

// Text is a file of the template as it was read: a source, a preset or a script; nil if it has none of that name.
func (t *Template) Text(file string) []byte {
	if text := t.Sources[file]; text != nil {
		return text
	}
	for i := range t.Presets {
		if t.Presets[i].File == file {
			return t.Presets[i].text
		}
	}
	return t.Artifacts[file]
}

// Preset returns the preset of that name. An empty name is the template's defaults.
func (t *Template) Preset(name string) (Preset, error) {
	if name == "" {
		return Preset{Inputs: tosca.Inputs{}}, nil
	}
	var known []string
	for _, p := range t.Presets {
		if p.Name == name {
			return p, nil
		}
		known = append(known, p.Name)
	}
	return Preset{}, fault.NotFoundf("there is no preset %q; there are: %s", name, strings.Join(known, ", "))
}

// Design evaluates the template with inputs. The design is nil if there are mistakes; the diagnostics are those of the
// template, the inputs and the evaluation together.
func (t *Template) Design(inputs tosca.Inputs, more tosca.Diagnostics, o topology.Options) (*topology.Design, tosca.Diagnostics) {
	diags := slices.Concat(t.Diagnostics, more)
	if diags.Errors() > 0 {
		return nil, diags
	}
	design, found := topology.Build(t.Template, inputs, o)
	return design, append(diags, found...)
}

// Existing is what templates may take at the sites of an estate.
func Existing(e *estate.Estate) []topology.Existing {
	var out []topology.Existing
	if e == nil {
		return nil
	}
	for _, site := range e.Sites {
		for _, s := range site.Standing {
			out = append(out, topology.Existing{Name: s.Name, Type: s.Type, Site: site.Name, Properties: s.Properties,
				Capabilities: s.Capabilities, Attributes: s.Attributes})
		}
	}
	return out
}

// Check finds everything wrong with a template: in itself, with each of its presets (or the one named), and, where an
// estate is given, in what it asks of the sites, under the administrator's rules or, if nil, those that ship. Inputs
// without a value are no mistake of a template.
func (t *Template) Check(preset string, e *estate.Estate, own *rules.File) (tosca.Diagnostics, error) {
	presets := t.Presets
	if preset != "" {
		p, err := t.Preset(preset)
		if err != nil {
			return nil, err
		}
		presets = []Preset{p}
	}
	if len(presets) == 0 {
		presets = []Preset{{Inputs: tosca.Inputs{}}}
	}
	all := slices.Clone(t.Diagnostics)
	for _, p := range presets {
		design, found := t.Design(p.Inputs, p.Diagnostics, topology.Options{Partial: true, NoSites: e == nil, Standing: Existing(e)})
		all = append(all, found[min(len(t.Diagnostics), len(found)):]...)
		if design != nil {
			all = append(all, plan.Policies(design, questionsOf(own))...)
		}
		if design != nil && e != nil {
			problem, err := ProblemOf(design, e, DraftRequest{Rules: own})
			if err != nil {
				return nil, err
			}
			all = append(all, plan.Offers(design, *problem)...)
		}
	}
	all.Sort()
	return all, nil
}

// FindTemplate finds the template among the files of a folder.
func FindTemplate(files fs.FS) (string, error) { return source.FindRoot(files) }

// Overlaid is a folder's files with others in place of some, as an editor has them before they are saved. Links out of
// the folder are not followed.
func Overlaid(dir string, over map[string][]byte) fs.FS { return source.Overlay(dir, over) }
