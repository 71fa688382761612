// Package background starts this program once more, as a process that outlives the one that began it and never takes the
// processor from somebody who types: workers of runs, the process that serves a workspace, and stand-ins.
package background

import (
	"os"
	"os/exec"
	"syscall"
)

// niceness is how far a process in the background steps back, in the steps of setpriority(2): enough that a screen on the same
// machine is drawn first, and little enough that a run on a busy machine gets on.
var niceness = 5

// Command is this program with arguments, in a session of its own, so that closing a terminal does not end it.
func Command(args ...string) (*exec.Cmd, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	return Of(self, args...), nil
}

// Of is the same of the program in a file.
func Of(program string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	return cmd
}

// Start starts what Command returned, and lets it step back. A process that leads its session leads its group too, and the
// group is named because on Linux a process alone would mean only one of its threads.
func Start(cmd *exec.Cmd) error {
	if err := cmd.Start(); err != nil {
		return err
	}
	_ = syscall.Setpriority(syscall.PRIO_PGRP, cmd.Process.Pid, niceness) // where that is not possible, it competes as before
	return nil
}
