package app

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
)

// Template is a template as it was opened, with what was found wrong with it.
type Template struct {
	// Dir is the folder it was opened from, as the user named it; Root the file in it.
	Dir, Root string
	*tosca.Template
	Diagnostics tosca.Diagnostics
	Presets     []Preset
}

// Preset is a named set of inputs.
type Preset struct {
	Name, File  string
	Inputs      tosca.Inputs
	Diagnostics tosca.Diagnostics
}

// rootName is the template's file in a folder, presetDir the folder of its presets.
const (
	rootName  = "template.yaml"
	presetDir = "presets"
)

// OpenTemplate opens a template file, or the folder that holds template.yaml. Nothing outside that folder is read.
func OpenTemplate(name string) (*Template, error) {
	dir, file := name, rootName
	info, err := os.Stat(name)
	if err != nil {
		return nil, fmt.Errorf("the template %s cannot be opened: %w", name, err)
	}
	if !info.IsDir() {
		dir, file = filepath.Dir(name), filepath.Base(name)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return ReadTemplate(root.FS(), dir, file)
}

// maxFile bounds what is read of one file of a template.
const maxFile = 64 << 20

// ReadTemplate reads a template from a file system; dir is only the name shown for it.
func ReadTemplate(files fs.FS, dir, file string) (*Template, error) {
	if _, err := fs.Stat(files, file); err != nil {
		return nil, fmt.Errorf("there is no template %s in %s: %w", file, dir, err)
	}
	open := func(name string) ([]byte, error) {
		info, err := fs.Stat(files, name)
		if err != nil {
			return nil, err
		}
		if info.Size() > maxFile || !info.Mode().IsRegular() {
			return nil, fmt.Errorf("it is no file, or larger than %d MiB", maxFile>>20)
		}
		return fs.ReadFile(files, name)
	}
	t := &Template{Dir: dir, Root: file}
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
		p := Preset{Name: strings.TrimSuffix(path.Base(name), ".yaml"), File: name}
		p.Inputs, p.Diagnostics = tosca.ReadInputs(name, data)
		t.Presets = append(t.Presets, p)
	}
	return t, nil
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
	return Preset{}, fmt.Errorf("there is no preset %q; there are: %s", name, strings.Join(known, ", "))
}

// Design evaluates the template with inputs. The design is nil if there are mistakes; the diagnostics are those of the
// template, the inputs and the evaluation together.
func (t *Template) Design(inputs tosca.Inputs, more tosca.Diagnostics) (*topology.Design, tosca.Diagnostics) {
	diags := append(append(tosca.Diagnostics{}, t.Diagnostics...), more...)
	if diags.Errors() > 0 {
		return nil, diags
	}
	design, found := topology.Build(t.Template, inputs)
	return design, append(diags, found...)
}
