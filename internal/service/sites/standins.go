package sites

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"time"

	"andamio/internal/background"
	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/durable"
	"andamio/internal/sandbox"
	"andamio/internal/service/workspace"
	"andamio/internal/site/driver"
)

// Stand-ins belong to a workspace that carries their mark, which they put on an empty one and on no other: there they are
// connected once, keep what they hold, and come back. Nothing of a workspace is ever removed for them.

// ConnectSandbox connects the workspace to stand-ins, once, and gives it the secrets of the scenario if it has none.
func (svc *Service) ConnectSandbox(s *sandbox.Sandbox) error {
	m, err := svc.workspace.StandInMark()
	if err != nil {
		return err
	}
	if m != nil && m.Connected {
		return nil
	}
	if m == nil { // one that nothing was done with yet
		all, err := svc.workspace.Connections()
		runs, storeErr := svc.store.Runs(context.Background())
		if err := errors.Join(err, storeErr); err != nil {
			return err
		}
		if len(all) > 0 || len(runs) > 0 {
			return svc.workspace.OfStandIns()
		}
	}
	var c []workspace.Connection
	for _, e := range s.Endpoints {
		at := workspace.Connection{Site: e.Site, Kind: e.Kind, Account: "deploy-bot", TimeZone: "UTC", Schedule: "FREQ=HOURLY"}
		if err := at.Tell(driver.Values{"url": e.URL, "token": e.Token}); err != nil {
			return err
		}
		c = append(c, at)
	}
	if err := svc.workspace.SetConnections(c); err != nil {
		return err
	}
	if err := svc.workspace.SetZone(zoneOf(s)); err != nil {
		return err
	}
	kept, err := svc.workspace.Vault.Get(workspace.ShelfSecrets, "register_key")
	if err != nil {
		return err
	}
	if kept == "" {
		if err := svc.workspace.SetSecrets(map[string]string{"register_key": randomSecret()}); err != nil {
			return err
		}
	}
	return svc.workspace.Mark(workspace.Mark{Format: workspace.MarkFormat, Connected: true})
}

// KeptEstate is the estate of the stand-ins of a workspace, if they were there before; else nil.
func KeptEstate(dir string) (*estate.Estate, error) {
	return sandbox.KeptEstate(workspace.StandInFolder(dir))
}

// StandIns makes sure that the stand-ins of a workspace run, in a process of their own that outlives the screens. Those that
// ran before come back as they were.
func StandIns(ctx context.Context, dir string, args ...string) error {
	if err := workspace.MarkForStandIns(dir); err != nil {
		return err
	}
	if StandInsRun(dir) {
		return nil
	}
	cmd, err := background.Command(append([]string{"sandbox", "--workspace", dir, "--quiet"}, args...)...)
	if err != nil {
		return err
	}
	said, err := cmd.StderrPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fault.Unavailablef("the stand-ins cannot be started: %w", err)
	}
	ended := make(chan error, 1)
	go func() {
		text := make([]byte, 4<<10)
		n, _ := said.Read(text)
		if err := cmd.Wait(); err != nil || n > 0 {
			ended <- fault.Unavailablef("the stand-ins ended at once: %s", text[:n])
			return
		}
		ended <- fault.Unavailablef("the stand-ins ended at once")
	}()
	return begun(ctx, dir, ended)
}

// SetAside gives the workspace of the demo another name, so that a new one begins; nothing of it is lost. It returns that
// name, "" if there was none.
func SetAside(dir string) (string, error) {
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	demo, err := DemoDir()
	if err != nil {
		return "", err
	}
	if dir != demo {
		if err := workspace.New(dir).OfStandIns(); err != nil {
			return "", err
		}
	}
	for n := 1; ; n++ {
		name := fmt.Sprintf("%s.%d", dir, n)
		if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) {
			return name, os.Rename(dir, name)
		}
	}
}

// The stand-ins are there within mostBeginning; they are looked for each beginningEvery.
const (
	mostBeginning  = 30 * time.Second
	beginningEvery = 25 * time.Millisecond
)

// begun waits until the stand-ins run.
func begun(ctx context.Context, dir string, ended <-chan error) error {
	ctx, cancel := context.WithTimeout(ctx, mostBeginning)
	defer cancel()
	for !StandInsRun(dir) {
		select {
		case err := <-ended:
			return err
		case <-time.After(beginningEvery):
		case <-ctx.Done():
			return fault.Unavailablef("the stand-ins did not answer; andamio sandbox --workspace %s shows why: %w", dir, ctx.Err())
		}
	}
	return nil
}

// StandInsRun reports that a process is the stand-ins of a workspace, and has connected them.
func StandInsRun(dir string) bool {
	pid, err := standInPID(dir)
	if err != nil || syscall.Kill(pid, 0) != nil {
		return false
	}
	unlock, err := durable.TryLock(filepath.Join(workspace.StandInFolder(dir), "lock"))
	if err == nil { // nobody has them: the number is another process's by now
		unlock()
	}
	return errors.Is(err, durable.ErrHeld)
}

func standInPID(dir string) (int, error) {
	data, err := os.ReadFile(filepath.Join(dir, workspace.FilePID))
	if err != nil {
		return 0, err
	}
	pid, err := strconv.Atoi(string(data))
	if err != nil || pid <= 1 {
		return 0, fmt.Errorf("%s holds no process", filepath.Join(dir, workspace.FilePID))
	}
	return pid, nil
}

// NotePID keeps the number of the stand-ins' process in the workspace.
func (svc *Service) NotePID() error {
	return svc.workspace.Write(workspace.FilePID, []byte(strconv.Itoa(os.Getpid())))
}

// StopStandIns ends the stand-ins of a workspace, which keep what they hold; false if none run.
func StopStandIns(ctx context.Context, dir string) (bool, error) {
	if !StandInsRun(dir) {
		return false, nil
	}
	pid, err := standInPID(dir)
	if err != nil {
		return false, err
	}
	if err := syscall.Kill(pid, syscall.SIGTERM); err != nil {
		return true, err
	}
	return true, gone(ctx, pid)
}

// A process that is told to end is gone within mostEnding; it is looked for each endingEvery.
const (
	mostEnding  = 15 * time.Second
	endingEvery = 10 * time.Millisecond
)

// gone waits until a process has ended: then it has let go of the workspace.
func gone(ctx context.Context, pid int) error {
	ctx, cancel := context.WithTimeout(ctx, mostEnding)
	defer cancel()
	look := time.NewTicker(endingEvery)
	defer look.Stop()
	for syscall.Kill(pid, 0) == nil {
		select {
		case <-look.C:
		case <-ctx.Done():
			return fault.Unavailablef("process %d was told to end, and has not yet", pid)
		}
	}
	return nil
}
