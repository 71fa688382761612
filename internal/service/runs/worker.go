package runs

import (
	"errors"
	"os"
	"strconv"
	"syscall"
	"time"

	"andamio/internal/background"
	"andamio/internal/core/fault"
	"andamio/internal/core/run"
	"andamio/internal/store"
)

// ThisHost is what this machine is called.
func ThisHost() string {
	name, err := os.Hostname()
	if err != nil {
		return "localhost"
	}
	return name
}

// ThisWorker is this process as a worker.
func ThisWorker() store.Worker { return store.WorkerOn(ThisHost(), os.Getpid()) }

// Alive reports that a run's worker still works: it has shown so of late. On the machine that it is on, it is known at once when its
// process is gone.
func Alive(r store.Run) bool { return aliveAt(r, time.Now()) }

func aliveAt(r store.Run, now time.Time) bool {
	return now.Sub(r.Beat) <= SilentAfter && !WorkerGone(r.Worker)
}

// WorkerGone reports that a worker is on this machine, and is not there any more.
func WorkerGone(w store.Worker) bool {
	process, here := w.On(ThisHost())
	return here && !processLives(process)
}

// processLives reports that a process is there.
func processLives(pid int) bool {
	return pid == os.Getpid() || !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH)
}

// beatEvery is how often a worker shows that it lives; SilentAfter is when watchers stop believing it.
const (
	beatEvery   = 300 * time.Millisecond
	SilentAfter = 5 * time.Second
)

// Start sets a worker to a run.
func (svc *Service) Start(id int64) error {
	if svc.workers.Spawn == nil {
		return svc.spawnProcess(id)
	}
	return svc.workers.Spawn(id)
}

// spawnProcess begins the worker as a process in a session of its own, so that closing the terminal does not end it.
func (svc *Service) spawnProcess(runID int64) error {
	cmd, err := background.Command("work", strconv.FormatInt(runID, 10), "--workspace", svc.workspace.Dir)
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fault.Unavailablef("the run's worker cannot be started: %w", err)
	}
	go func() { _ = cmd.Wait() }()
	return nil
}

// Abandoned reports a run that goes on by its record while its worker has fallen silent.
func Abandoned(r store.Run, now time.Time) bool {
	switch r.State {
	case run.UnderWay:
		return !aliveAt(r, now)
	case run.Planned:
		return now.Sub(r.Beat) > SilentAfter
	}
	return false
}
