package promises

import (
	"context"
	"fmt"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/printable"
	"andamio/internal/core/window"
)

// Windows are the blackouts and maintenance windows of the workspace.
func (svc *Service) Windows(context.Context) (*window.File, error) {
	if err := svc.desk.Read("the blackouts and windows"); err != nil {
		return nil, err
	}
	return svc.workspace.Windows()
}

// SetWindows keeps the blackouts and maintenance windows of the workspace, from the text of their file.
func (svc *Service) SetWindows(ctx context.Context, text []byte) (*window.File, error) {
	f, err := window.Read(text)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	named := fmt.Sprintf("%s, %s", printable.Count(len(f.Blackouts), "blackout"), printable.Count(len(f.Maintenance), "window"))
	return f, svc.desk.Do(ctx, guard.SetWindows, guard.Named(named), func() error { return svc.workspace.SetWindows(text) })
}
