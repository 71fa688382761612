package workspace

import (
	"andamio/internal/core/fault"
	"andamio/internal/core/hook"
)

// FileBus says on which bus what happens is kept.
const FileBus = "bus.json"

// Bus is a server on which what happens in the workspace is kept, by its streams. Secret is the name under which the password or the token is kept. The zero value is none.
type Bus struct {
	hook.Bus
	Secret string `json:"secret,omitempty"`
}

// Bus says on which bus what happens is kept.
func (w *Workspace) Bus() (Bus, error) {
	var b Bus
	err := w.ReadJSON(FileBus, &b)
	return b, err
}

// SetBus changes on which bus what happens is kept, from the next moment on; the zero value has it be on none.
func (w *Workspace) SetBus(b Bus) error {
	if b != (Bus{}) {
		if err := b.Check(b.Secret); err != nil {
			return fault.Default(fault.Invalid, err)
		}
	}
	return w.WriteJSON(FileBus, b)
}
