package app

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"andamio/examples"
	"andamio/internal/core/estate"
	"andamio/internal/names"
	"andamio/internal/sandbox"
)

// DemoName is the scenario that ships with the program.
const DemoName = "flood-watch"

// DemoDir is the demo's own workspace, under the user's cache.
func DemoDir() (string, error) {
	base := os.Getenv("XDG_CACHE_HOME")
	if !filepath.IsAbs(base) {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", fmt.Errorf("there is no home folder for the demo; name one with --workspace: %w", err)
		}
		base = filepath.Join(home, ".cache")
	}
	return filepath.Join(base, "andamio", "demo"), nil
}

// DemoFiles is the scenario's folder.
func DemoFiles() fs.FS {
	sub, err := fs.Sub(examples.Files, DemoName)
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return sub
}

// DemoEstate is the scenario's estate.
func DemoEstate() (*estate.Estate, error) {
	data, err := fs.ReadFile(DemoFiles(), "estate.json")
	if err != nil {
		return nil, err
	}
	return estate.Read(data)
}

// DemoTemplate is the scenario's template.
func DemoTemplate() (*Template, error) { return ReadTemplate(DemoFiles(), DemoName, "template.yaml") }

// ConnectSandbox connects the workspace to stand-ins, and gives it the secrets of the scenario if it has none.
func (a *App) ConnectSandbox(s *sandbox.Sandbox) error {
	var c []Connection
	for _, e := range s.Endpoints {
		c = append(c, Connection{Site: e.Site, Kind: e.Kind, URL: e.URL, Token: e.Token, Account: "deploy-bot", TimeZone: "UTC", Schedule: "FREQ=HOURLY"})
	}
	if err := a.Workspace.SetConnections(c); err != nil {
		return err
	}
	if err := a.Workspace.SetZone(zoneOf(s)); err != nil {
		return err
	}
	kept, err := a.Workspace.vault.Get(shelfSecrets, "register_key")
	if err != nil || kept != "" {
		return err
	}
	return a.Workspace.SetSecrets(map[string]string{"register_key": randomSecret()})
}

// standInTTL is for how many seconds answers of the stand-in name server may be kept.
const standInTTL = 2

// zoneOf is the zone of stand-ins; none if they keep no names.
func zoneOf(s *sandbox.Sandbox) names.Zone {
	if s.Names == nil {
		return names.Zone{}
	}
	return names.Zone{Name: strings.TrimSuffix(s.Names.Zone, "."), Server: s.Names.Address, Resolvers: []string{s.Names.Resolver},
		Key: s.Names.Key, Secret: s.Names.Secret, Algorithm: "hmac-sha256", TTL: standInTTL}
}

func randomSecret() string {
	b := make([]byte, 12)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}

const filePID = "sandbox.pid"

// StandIns makes sure that the stand-ins of a demo workspace run, in a process of their own that outlives the screens.
// Stand-ins hold everything in memory: when they are gone the workspace's old runs are gone with them, and it is made
// anew.
func StandIns(ctx context.Context, dir string, args ...string) error {
	if StandInsAlive(ctx, dir) {
		return nil
	}
	if err := clearDemo(dir); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, append([]string{"sandbox", "--workspace", dir, "--quiet"}, args...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("the stand-ins cannot be started: %w", err)
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	for range 200 {
		if StandInsAlive(ctx, dir) {
			return nil
		}
		select {
		case err := <-ended:
			return fmt.Errorf("the stand-ins ended at once; andamio sandbox shows why: %w", err)
		case <-time.After(25 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return errors.New("the stand-ins did not answer within 5 s; andamio sandbox shows why")
}

// StandInsAlive asks all connected sites of a workspace whether they answer.
func StandInsAlive(ctx context.Context, dir string) bool {
	a := &App{Workspace: NewWorkspace(dir)}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	e, err := a.Estate(ctx)
	return err == nil && len(e.Sites) > 0
}

// clearDemo removes what an earlier demo left in its workspace, and nothing else.
func clearDemo(dir string) error {
	for _, name := range []string{"andamio.db", "andamio.db-wal", "andamio.db-shm", fileSites, fileZone, filePID} {
		if err := os.Remove(filepath.Join(dir, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return os.MkdirAll(dir, 0o700)
}

// NotePID keeps the number of the stand-ins' process in the workspace.
func (a *App) NotePID() error {
	return a.Workspace.write(filePID, []byte(strconv.Itoa(os.Getpid())))
}

// StopStandIns ends the stand-ins of a demo workspace; false if none run.
func StopStandIns(ctx context.Context, dir string) (bool, error) {
	if !StandInsAlive(ctx, dir) {
		return false, nil
	}
	data, err := os.ReadFile(filepath.Join(dir, filePID))
	if err != nil {
		return false, err
	}
	pid, err := strconv.Atoi(string(data))
	if err != nil || pid <= 1 {
		return false, fmt.Errorf("%s holds no process", filepath.Join(dir, filePID))
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
			return fmt.Errorf("process %d was told to end, and has not yet", pid)
		}
	}
	return nil
}
