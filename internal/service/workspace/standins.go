package workspace

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"andamio/internal/core/fault"
	"andamio/internal/durable"
)

// Files of a workspace of stand-ins: its mark, the process that is the stand-ins, and the folder where they keep what they
// hold.
const (
	FileMark       = "stand-ins.json"
	FilePID        = "sandbox.pid"
	FolderStandIns = "stand-ins"
)

// MarkFormat says what the mark means.
const MarkFormat = "andamio.workspace-of-stand-ins/1"

// Mark is what makes a workspace one of stand-ins.
type Mark struct {
	Format string `json:"format"`
	// Connected says that they were connected; a site that somebody removed since is not connected again.
	Connected bool `json:"connected"`
}

// StandInFolder is where the stand-ins of a workspace keep what they hold.
func StandInFolder(dir string) string { return filepath.Join(dir, FolderStandIns) }

// MarkForStandIns makes an empty folder, or one that is not there, a workspace of stand-ins. One that is such a workspace
// stays as it is; any other is refused.
func MarkForStandIns(dir string) error {
	w := New(dir)
	m, err := w.StandInMark()
	if err != nil || m != nil {
		return err
	}
	entries, err := os.ReadDir(dir)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	case len(entries) > 0:
		return fault.Conflictf("%s is a folder with something in it (%s) and no workspace of stand-ins, which would connect themselves in place of what is there: "+
			"name a folder that is empty or not there yet, --workspace NEW; nothing was changed", dir, entries[0].Name())
	}
	if err := durable.Folder(dir); err != nil {
		return err
	}
	return w.Mark(Mark{Format: MarkFormat})
}

// Mark keeps the mark, which is the folder's: the stand-ins are there.
func (w *Workspace) Mark(m Mark) error { return durable.WriteJSON(w.Path(FileMark), m) }

// StandInMark is the workspace's mark; nil if it has none.
func (w *Workspace) StandInMark() (*Mark, error) {
	var m Mark
	if err := readJSON(durable.In(w.Dir), FileMark, &m); err != nil || m.Format == "" {
		return nil, err
	}
	if m.Format != MarkFormat {
		return nil, fault.Refusedf("%s is of %q, which this program does not know: use the one that made it", w.Path(FileMark), m.Format)
	}
	return &m, nil
}

// OfStandIns refuses a workspace without the mark.
func (w *Workspace) OfStandIns() error {
	m, err := w.StandInMark()
	if err == nil && m == nil {
		err = fault.NotFoundf("%s is no workspace of stand-ins: andamio sandbox --workspace NEW makes one", w.Dir)
	}
	return err
}
