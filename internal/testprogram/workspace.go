package testprogram

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"
)

// mostEnding is how long it is waited for processes that were ended to be gone.
const mostEnding = 10 * time.Second

// Workspace is a folder for a workspace that lasts as long as the test. Whoever still works on it then, such as a worker that has just ended
// its run, is ended first: what it writes while the folder is removed would be in the way.
func Workspace(t testing.TB) string {
	t.Helper()
	dir := t.TempDir()
	t.Cleanup(func() {
		tick := time.NewTicker(10 * time.Millisecond)
		defer tick.Stop()
		for end := time.Now().Add(mostEnding); time.Now().Before(end); <-tick.C {
			all := at(dir)
			if len(all) == 0 {
				return
			}
			for _, pid := range all {
				_ = syscall.Kill(pid, syscall.SIGKILL)
			}
		}
	})
	return dir
}

// at are the processes whose command line names a folder, or something in it, but for this one and those that have ended.
func at(dir string) []int {
	var out []int
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, file := range all {
		line, err := os.ReadFile(file)
		pid, wrong := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		if err == nil && wrong == nil && pid != os.Getpid() && strings.Contains(string(line)+"\x00", dir) {
			out = append(out, pid)
		}
	}
	return out
}

// Workers are the processes that work on runs of the workspace in a folder.
func Workers(dir string) []int {
	var out []int
	for _, pid := range at(dir) {
		line, err := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "cmdline"))
		if words := strings.Split(string(line), "\x00"); err == nil && len(words) > 1 && words[1] == "work" {
			out = append(out, pid)
		}
	}
	return out
}
