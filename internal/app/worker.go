package app

import (
	"errors"
	"os"
	"syscall"
	"time"

	"andamio/internal/store"
)

// thisHost is what this machine is called.
func thisHost() string {
	name, err := os.Hostname()
	if err != nil {
		return "localhost"
	}
	return name
}

// thisWorker is this process as a worker.
func thisWorker() store.Worker { return store.WorkerOn(thisHost(), os.Getpid()) }

// Alive reports that a run's worker still works: it has shown so of late. On the machine that it is on, it is known at once when its
// process is gone.
func Alive(r Run) bool { return aliveAt(r, time.Now()) }

func aliveAt(r Run, now time.Time) bool {
	return now.Sub(r.Beat) <= silentAfter && !workerGone(r.Worker)
}

// workerGone reports that a worker is on this machine, and is not there any more.
func workerGone(w store.Worker) bool {
	process, here := w.On(thisHost())
	return here && !processLives(process)
}

// processLives reports that a process is there.
func processLives(pid int) bool {
	return pid == os.Getpid() || !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}
