package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"andamio/internal/core/fault"
	"andamio/internal/core/mapping"
	"andamio/internal/core/rules"
	"andamio/internal/core/settling"
	"andamio/internal/site/drivers"
)

// FileRules is the administrator's rule file in the workspace.
const FileRules = "rules.yaml"

// Rules are the administrator's: those of the workspace, else those that ship.
func (w *Workspace) Rules() (*rules.File, error) {
	data, err := w.files.Read(FileRules)
	if errors.Is(err, fs.ErrNotExist) {
		return rules.Default(), nil
	}
	if err != nil {
		return nil, err
	}
	f, err := rules.Read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Where(FileRules), err))
	}
	return f, nil
}

// FileSettling holds the workspace's standing rules.
const FileSettling = "settling.yaml"

// SettlingRules are the workspace's standing rules; none if there is no file.
func (w *Workspace) SettlingRules() (*settling.File, error) {
	data, err := w.files.Read(FileSettling)
	if errors.Is(err, fs.ErrNotExist) {
		return &settling.File{Version: settling.Version}, nil
	}
	if err != nil {
		return nil, err
	}
	f, err := settling.Read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Where(FileSettling), err))
	}
	return f, nil
}

// FileMapping is an administrator's own mapping, over the one that ships.
const FileMapping = "mapping.yaml"

// Mapping is the workspace's mapping: its own file's entries before those that ship.
func (w *Workspace) Mapping() (*mapping.File, error) {
	shipped, err := w.ShippedMapping()
	if err != nil {
		return nil, err
	}
	data, err := w.files.Read(FileMapping)
	if errors.Is(err, fs.ErrNotExist) {
		return shipped, nil
	}
	if err != nil {
		return nil, err
	}
	own, err := mapping.Read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Where(FileMapping), err))
	}
	return own.Over(shipped), nil
}

// ShippedMapping are the mappings of the drivers, each for the sites that speak it.
func (w *Workspace) ShippedMapping() (*mapping.File, error) {
	var all []Connection
	if err := w.ReadJSON(FileSites, &all); err != nil {
		return nil, err
	}
	its, err := driverMappings()
	if err != nil {
		return nil, err
	}
	out := mapping.Default()
	for k, d := range drivers.All {
		var others []string
		for i := range all {
			if speaks, err := all[i].Kit(); err != nil || speaks != d {
				others = append(others, all[i].Site)
			}
		}
		out = its[k].Except(others).Over(out)
	}
	return out, nil
}

// driverMappings are the mappings of all drivers, read once.
var driverMappings = sync.OnceValues(func() ([]*mapping.File, error) {
	var out []*mapping.File
	for _, d := range drivers.All {
		f, err := mapping.Read(d.Mapping)
		if err != nil {
			return nil, fault.Invalidf("the mapping of the driver %s: %w", d.Name, err)
		}
		out = append(out, f)
	}
	return out, nil
})
