package workspace

import (
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
)

// naming is what a file of the administrator's says that names people and teams.
type naming interface {
	CheckAgainst(d *guard.Directory) error
}

// ReadNaming reads the text of a file that names people and teams, and holds it against the directory of them, where somebody wrote one. What
// cannot be read or names nobody is invalid.
func ReadNaming[F naming](w *Workspace, text []byte, read func([]byte) (F, error)) (F, error) {
	var none F
	f, err := read(text)
	if err != nil {
		return none, fault.Default(fault.Invalid, err)
	}
	d, err := w.Directory()
	if err != nil {
		return none, err
	}
	if d != nil {
		if err := f.CheckAgainst(d); err != nil {
			return none, fault.Default(fault.Invalid, err)
		}
	}
	return f, nil
}
