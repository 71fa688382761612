//go:build !linux

package qemu

import "os/exec"

// withParent runs what starts a command and waits for it. Where this process is killed, that goes on until its disks are gone.
func withParent(_ *exec.Cmd, run func()) { run() }
