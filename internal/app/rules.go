package app

import (
	"errors"
	"fmt"
	"io/fs"
	"os"

	"andamio/internal/core/fault"
	"andamio/internal/core/rules"
)

// fileRules is the administrator's rule file in the workspace.
const fileRules = "rules.yaml"

// RulesIn are those of the workspace in a folder, "" for the user's own, which need not be there.
func RulesIn(dir string) (*rules.File, error) {
	if dir == "" {
		own, err := DefaultDir()
		if err != nil {
			return rules.Default(), nil // nobody's workspace has no rules
		}
		dir = own
	}
	return NewWorkspace(dir).Rules()
}

// Rules are the administrator's: those of the workspace, else those that ship.
func (w *Workspace) Rules() (*rules.File, error) {
	data, err := os.ReadFile(w.path(fileRules))
	if errors.Is(err, fs.ErrNotExist) {
		return rules.Default(), nil
	}
	if err != nil {
		return nil, err
	}
	f, err := rules.Read(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.path(fileRules), err))
	}
	return f, nil
}
