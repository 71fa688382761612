package qemu

import (
	"os/exec"
	"runtime"
	"syscall"
)

// withParent runs what starts a command and waits for it, so that it ends with this process however that ends: the system holds to the thread
// that started it.
func withParent(cmd *exec.Cmd, run func()) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	run()
}
