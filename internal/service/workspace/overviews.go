package workspace

import (
	"errors"
	"io/fs"
	"path/filepath"
	"regexp"
	"strings"

	"andamio/internal/core/fault"
)

// FolderOverviews has a file for each overview that somebody keeps: who changes one takes nothing from another.
const FolderOverviews = "overviews"

// overviewName is what an overview may be called.
var overviewName = regexp.MustCompile(`^[\pL\pN]([\pL\pN _-]{0,38}[\pL\pN])?$`)

// CheckOverviewName refuses what an overview cannot be called.
func CheckOverviewName(name string) error {
	if !overviewName.MatchString(name) {
		return fault.Invalidf("%q cannot be an overview's name: letters, digits, spaces, _ and - between them, 40 at most", name)
	}
	return nil
}

func fileOverview(name string) string { return filepath.Join(FolderOverviews, name+".json") }

// Overviews are the names of those that are kept.
func (w *Workspace) Overviews() ([]string, error) {
	files, err := w.files.Names(FolderOverviews)
	var out []string
	for _, file := range files {
		if name, is := strings.CutSuffix(file, ".json"); is && CheckOverviewName(name) == nil {
			out = append(out, name)
		}
	}
	return out, err
}

// ReadOverview reads one that is kept into a value.
func (w *Workspace) ReadOverview(name string, v any) error {
	if err := CheckOverviewName(name); err != nil {
		return err
	}
	if _, err := w.files.Stamp(fileOverview(name)); errors.Is(err, fs.ErrNotExist) {
		return fault.NotFoundf("there is no overview %q; andamio measure overview lists them", name)
	}
	return w.ReadJSON(fileOverview(name), v)
}

// KeepOverview keeps one, in the place of one of the same name.
func (w *Workspace) KeepOverview(name string, v any) error {
	if err := CheckOverviewName(name); err != nil {
		return err
	}
	return w.WriteJSON(fileOverview(name), v)
}

// DropOverview keeps one no longer.
func (w *Workspace) DropOverview(name string) error {
	if err := CheckOverviewName(name); err != nil {
		return err
	}
	err := w.files.Remove(fileOverview(name))
	if errors.Is(err, fs.ErrNotExist) {
		return fault.NotFoundf("there is no overview %q", name)
	}
	return err
}
