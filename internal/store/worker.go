package store

import (
	"strconv"
	"strings"
)

// Worker names who works on a run: a process on a machine, as HOST/PROCESS. Whether it lives, its beats say; what it is called helps
// only those on the same machine, who may know earlier that it is gone.
type Worker string

// WorkerOn is the name of a process on a machine.
func WorkerOn(host string, process int) Worker {
	return Worker(host + "/" + strconv.Itoa(process))
}

// On is the worker's process, if it is on that machine.
func (w Worker) On(host string) (process int, here bool) {
	name, number, _ := strings.Cut(string(w), "/")
	process, err := strconv.Atoi(number)
	return process, err == nil && name == host && process > 0
}
