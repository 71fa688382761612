package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"sync"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/durable"
)

// FileTeams is who there is, in which teams, and what each may do.
const FileTeams = "teams.yaml"

// teams is the directory as it was last read, as long as its file is the same.
type teams struct {
	mu    sync.Mutex
	stamp durable.Stamp
	read  *guard.Directory
}

// Directory is who may do what; nil where nobody wrote it down. What is changed in its file holds from the next act on.
func (w *Workspace) Directory() (*guard.Directory, error) {
	stamp, err := w.files.Stamp(FileTeams)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	w.teams.mu.Lock()
	defer w.teams.mu.Unlock()
	if t := &w.teams; t.read != nil && t.stamp == stamp {
		return t.read.On(time.Now()), nil
	}
	data, err := w.files.Read(FileTeams)
	if err != nil {
		return nil, err
	}
	d, err := guard.ReadDirectory(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Where(FileTeams), err))
	}
	w.teams.stamp, w.teams.read = stamp, d
	return d.On(time.Now()), nil
}

// SetDirectory keeps a directory, as the text that it was read from.
func (w *Workspace) SetDirectory(text []byte) error {
	return w.files.Write(FileTeams, text)
}
