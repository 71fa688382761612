package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
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
	mu      sync.Mutex
	changed time.Time
	size    int64
	read    *guard.Directory
}

// Directory is who may do what; nil where nobody wrote it down. What is changed in its file holds from the next act on.
func (w *Workspace) Directory() (*guard.Directory, error) {
	info, err := os.Stat(w.Path(FileTeams))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	w.teams.mu.Lock()
	defer w.teams.mu.Unlock()
	if t := &w.teams; t.read != nil && t.changed.Equal(info.ModTime()) && t.size == info.Size() {
		return t.read.On(time.Now()), nil
	}
	data, err := os.ReadFile(w.Path(FileTeams))
	if err != nil {
		return nil, err
	}
	d, err := guard.ReadDirectory(data)
	if err != nil {
		return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", w.Path(FileTeams), err))
	}
	w.teams.changed, w.teams.size, w.teams.read = info.ModTime(), info.Size(), d
	return d.On(time.Now()), nil
}

// SetDirectory keeps a directory, as the text that it was read from.
func (w *Workspace) SetDirectory(text []byte) error {
	return durable.Write(w.Path(FileTeams), text)
}
