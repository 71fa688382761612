// Package background starts this program once more, as a process that outlives the one that began it: workers of runs, the process that serves a
// workspace, and stand-ins.
package background

import (
	"os"
	"os/exec"
	"syscall"
)

// Command is this program with arguments, in a session of its own, so that closing a terminal does not end it.
func Command(args ...string) (*exec.Cmd, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(self, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	return cmd, nil
}
