package crash

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	busserver "andamio/internal/bus/server"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/store/postgres/server"
	"andamio/internal/vault"
)

// TestATeamSurvivesAnything has three machines serve one workspace in a database, while a deployment rises, changes and is moved at the word of each of them, and others are asked for, decided, built and given back; workers, those who serve, the
// database and the bus are killed and frozen at random: what was asked for comes to stand by itself, nothing is built twice, nothing is lost, of what is due nothing is done twice, and all that happened is on the bus once.
func TestATeamSurvivesAnything(t *testing.T) {
	t.Parallel()
	db, err := databases.Server()
	require.NoError(t, err)
	if db == nil {
		t.Skip("PostgreSQL is not installed: nothing is tried with it (make test installs it)")
	}
	faults := 6
	if n, err := strconv.Atoi(os.Getenv("ANDAMIO_TEAM_FAULTS")); err == nil {
		faults = n
	}
	seed := uint64(time.Now().UnixNano() % 1e6)
	if n, err := strconv.ParseUint(os.Getenv("ANDAMIO_SEED"), 10, 64); err == nil {
		seed = n
	}
	dir, err := os.MkdirTemp("", "andamio-team-") // which whoever runs the database may enter
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	own, err := server.Make(t.Context(), dir) // one that may be killed
	require.NoError(t, err)
	require.NoError(t, own.Start(t.Context()))
	defer own.Stop()
	nats, err := busserver.Make(t.Context(), t.TempDir())
	require.NoError(t, err)
	require.NoError(t, nats.Start(t.Context()))
	defer nats.Stop()
	team := &team{t: t, r: rand.New(rand.NewPCG(seed, 23)), db: own, bus: nats, left: faults}
	defer team.end()
	begun := time.Now()
	require.NoError(t, team.begin(seed), "seed %d", seed)
	for team.left > 0 {
		require.NoError(t, team.change(), "seed %d, %s", seed, strings.Join(team.done, ", "))
	}
	require.NoError(t, team.retire(), "seed %d, %s", seed, strings.Join(team.done, ", "))
	t.Logf("seed %d: %d faults in %d changes, %s: %s", seed, faults, team.changes, time.Since(begun).Round(time.Second), strings.Join(team.done, ", "))
}

// team is machines that have one workspace.
type team struct {
	t        *testing.T
	r        *rand.Rand
	db       *server.Server
	bus      *busserver.Server
	box      *sandbox.Sandbox
	a        *app.App
	machines []*machine
	// left is how many faults are to come, done what was done, changes how often the deployment was changed.
	left    int
	done    []string
	changes int
}

// machine is a folder of its own, and the process that serves the workspace from it.
type machine struct {
	dir    string
	serve  *exec.Cmd
	ended  chan struct{}
	served int
}

// says is the file of what its process says.
func (x *machine) says() string { return x.dir + ".out" }

const deploymentOfTeam = "flood-watch"

func (m *team) note(format string, args ...any) {
	m.done = append(m.done, fmt.Sprintf(format, args...))
}

// begin makes the workspace, has three machines join it and serve it, and raises the scenario.
func (m *team) begin(seed uint64) error {
	ctx, dir := m.t.Context(), m.t.TempDir()
	e, err := templates.DemoEstate()
	if err != nil {
		return err
	}
	if m.box, err = sandbox.Start(sandbox.Config{Estate: e, Pace: 0.05, Seed: seed}); err != nil {
		return err
	}
	key := ""
	for i := range 3 {
		x := &machine{dir: filepath.Join(dir, fmt.Sprint("machine-", i+1))}
		if _, err := app.Join(ctx, x.dir, m.db.Address("team"), "", key); err != nil {
			return err
		}
		m.machines = append(m.machines, x)
		if i == 0 {
			if m.a, err = app.Open(ctx, x.dir, app.Idle()); err != nil {
				return err
			}
			if err := m.a.ConnectSandbox(m.box); err != nil {
				return err
			}
			key = filepath.Join(x.dir, vault.KeyFile)
		}
	}
	if err := errors.Join(m.joinBus(ctx), m.offer(ctx)); err != nil {
		return err
	}
	for _, x := range m.machines {
		if err := m.start(x); err != nil {
			return err
		}
	}
	for i, x := range e.Sites {
		for _, y := range e.Sites[:i] {
			if _, err := m.a.MakePair(ctx, x.Name, y.Name, sites.Both); err != nil {
				return err
			}
		}
	}
	file := filepath.Join(dir, "plan.json")
	p, err := scenario(ctx, m.a)
	if err != nil {
		return err
	}
	text, err := p.Write()
	if err == nil {
		err = os.WriteFile(file, text, 0o600)
	}
	if err != nil {
		return err
	}
	return m.act("run", file, "--detach")
}

// start has a machine serve the workspace.
func (m *team) start(x *machine) error {
	x.serve = exec.Command(program, "serve", "--workspace", x.dir, "--address", "127.0.0.1:0")
	out, err := os.OpenFile(x.says(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	x.serve.Stdout, x.serve.Stderr = out, out
	x.serve.Env = append(os.Environ(), "ANDAMIO_SERVE=on")
	if err := x.serve.Start(); err != nil {
		return err
	}
	x.served++
	cmd, ended := x.serve, make(chan struct{})
	x.ended = ended
	go func() { _ = cmd.Wait(); close(ended) }()
	return nil
}

func (m *team) end() {
	for _, x := range m.machines {
		if x.serve != nil {
			_ = x.serve.Process.Signal(syscall.SIGCONT)
			_ = x.serve.Process.Kill()
			<-x.ended
		}
		for _, pid := range workersOf(x.dir) {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
	if m.a != nil {
		_ = m.a.Close()
	}
	if m.box != nil {
		m.box.Close()
	}
}

// workersOf are the processes that work for a folder.
func workersOf(dir string) (out []int) {
	all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, name := range all {
		text, err := os.ReadFile(name)
		words := strings.Split(string(text), "\x00")
		if err != nil || len(words) < 2 || words[1] != "work" || !slices.Contains(words, dir) {
			continue
		}
		if pid, err := strconv.Atoi(strings.Split(name, "/")[2]); err == nil {
			out = append(out, pid)
		}
	}
	return out
}

// act has a machine do what a command says, and faults happen meanwhile; the command is given again where a fault kept it from being taken.
func (m *team) act(words ...string) error {
	was, err := m.runs()
	if err != nil {
		return err
	}
	err = m.given(func() (bool, error) { now, err := m.runs(); return now > was, err }, words...)
	if err != nil {
		return err
	}
	return m.stands()
}

// given has a machine do what a command says until it is taken, while faults happen.
func (m *team) given(taken func() (bool, error), words ...string) error {
	x := m.machines[m.r.IntN(len(m.machines))]
	m.note("%s at %s", strings.Join(words[:min(2, len(words))], " "), filepath.Base(x.dir))
	faulty := make(chan error, 1)
	go func() { faulty <- m.fault() }()
	var said []byte
	var err error
	for try := range 4 {
		ctx, cancel := context.WithTimeout(m.t.Context(), time.Minute)
		cmd := exec.CommandContext(ctx, program, append(words, "--workspace", x.dir)...)
		said, err = cmd.CombinedOutput()
		cancel()
		if err == nil {
			break
		}
		if is, errThere := taken(); errThere != nil {
			return errThere
		} else if is {
			break // what it said is lost, what it did is not
		}
		m.note("try %d: %.120s", try+1, strings.TrimSpace(string(said)))
	}
	if wrong := <-faulty; wrong != nil {
		return wrong
	}
	if is, errThere := taken(); errThere != nil || !is {
		return errors.Join(errThere, fmt.Errorf("%s was never taken: %s", strings.Join(words, " "), said))
	}
	return nil
}

// runs is how many runs there are, which is asked while anything happens.
func (m *team) runs() (int, error) {
	all, err := whileItFails(func() ([]app.Run, error) { return m.a.Runs(m.t.Context()) })
	return len(all), err
}

// whileItFails asks again what cannot be answered while anything happens.
func whileItFails[T any](ask func() (T, error)) (out T, err error) {
	for range 10 {
		if out, err = ask(); err == nil {
			return out, nil
		}
	}
	return out, err
}

// startAgain has those serve again whose process has ended by itself, as a machine does: one that began while the database was away.
func (m *team) startAgain() error {
	for _, x := range m.machines {
		select {
		case <-x.ended:
			m.note("%s served again", filepath.Base(x.dir))
			if err := m.start(x); err != nil {
				return err
			}
		default:
		}
	}
	return nil
}

// fault does something bad to somebody, a while from now.
func (m *team) fault() error {
	m.left--
	if err := m.startAgain(); err != nil {
		return err
	}
	after := time.Duration(100+m.r.IntN(1500)) * time.Millisecond
	x := m.machines[m.r.IntN(len(m.machines))]
	kind := m.r.IntN(8)
	<-time.After(after) // what is at random is when
	switch kind {
	case 0, 1: // all workers of all machines
		n := 0
		for _, x := range m.machines {
			for _, pid := range workersOf(x.dir) {
				if syscall.Kill(pid, syscall.SIGKILL) == nil {
					n++
				}
			}
		}
		m.note("%d workers killed", n)
		return nil
	case 2: // a machine with all that goes on there, which comes back later
		m.note("%s killed", filepath.Base(x.dir))
		_ = x.serve.Process.Kill()
		<-x.ended
		for _, pid := range workersOf(x.dir) {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
		return m.start(x)
	case 3:
		m.note("the database killed")
		m.db.Kill()
		<-time.After(time.Duration(m.r.IntN(3000)) * time.Millisecond)
		return m.db.Start(m.t.Context())
	case 4:
		m.note("the database frozen")
		if err := m.db.Freeze(); err != nil {
			return err
		}
		<-time.After(time.Duration(500+m.r.IntN(4000)) * time.Millisecond)
		return m.db.Thaw()
	case 5:
		m.note("the bus killed")
		m.bus.Kill()
		<-time.After(time.Duration(m.r.IntN(3000)) * time.Millisecond)
		return m.bus.Start(m.t.Context())
	case 6:
		m.note("the bus frozen")
		if err := m.bus.Freeze(); err != nil {
			return err
		}
		<-time.After(time.Duration(500+m.r.IntN(4000)) * time.Millisecond)
		return m.bus.Thaw()
	default: // cut off for longer than its duties are its own
		m.note("%s frozen", filepath.Base(x.dir))
		_ = x.serve.Process.Signal(syscall.SIGSTOP)
		<-time.After(11 * time.Second)
		if err := x.serve.Process.Signal(syscall.SIGCONT); err != nil && !errors.Is(err, os.ErrProcessDone) {
			return err
		}
		return nil
	}
}

// change changes the deployment in one of several ways.
func (m *team) change() error {
	m.changes++
	switch m.r.IntN(3) {
	case 0:
		return m.move()
	case 1:
		return m.request()
	}
	size := strconv.Itoa(1 + m.r.IntN(4))
	d, err := m.a.FindDeployment(m.t.Context(), deploymentOfTeam)
	if err != nil {
		return err
	}
	o, err := m.a.Scaling(m.t.Context(), d.ID, "forecast-host", mustInt(size))
	if err != nil {
		return err
	}
	if o.Plan.Nothing() {
		return nil
	}
	return m.act("scale", deploymentOfTeam, "forecast-host", size, "--confirm", deploymentOfTeam, "--detach")
}

func mustInt(s string) int { n, _ := strconv.Atoi(s); return n }

func (m *team) retire() error {
	m.left++
	if err := m.act("retire", deploymentOfTeam, "--confirm", deploymentOfTeam, "--detach"); err != nil {
		return err
	}
	if left := m.box.Holds(); len(left) > 0 {
		return fmt.Errorf("everything was retired, and there is %v", left)
	}
	held, err := m.a.Reservations(m.t.Context())
	if err == nil && len(held) > 0 {
		err = fmt.Errorf("everything was retired, and %v is held", held)
	}
	return errors.Join(err, m.onBusOnce(m.t.Context()))
}

// comesToStand is how long it may take until everything stands, whatever happened: a worker is silent for 15 seconds before its run is taken over.
const comesToStand = 3 * time.Minute

// stands waits until the last run has ended with everything as it was to be, by itself, and looks whether all is true then.
func (m *team) stands() error {
	ctx := m.t.Context()
	var last string
	for until := time.Now().Add(comesToStand); ; <-time.After(100 * time.Millisecond) {
		all, err := m.a.Runs(ctx)
		if err != nil {
			return err
		}
		r := all[0]
		if r.State == run.Standing {
			state, err := m.a.Replay(ctx, r.ID)
			if err != nil {
				return err
			}
			if err := replays(ctx, m.a, r.ID, state); err != nil {
				return err
			}
			return m.isTrue()
		}
		if r.State == run.Failed {
			state, err := m.a.Replay(ctx, r.ID)
			if err != nil {
				return err
			}
			for i := range state.Steps {
				if st := &state.Steps[i]; st.Status == run.Failed {
					return fmt.Errorf("run %d: %s: %s", r.ID, st.ID, st.Error)
				}
			}
		}
		if last = fmt.Sprintf("run %d of worker %s is %s, its last sign %s ago", r.ID, r.Worker, r.State, time.Since(r.Beat).Round(time.Second)); time.Now().After(until) {
			return fmt.Errorf("%s after %s: %s", last, comesToStand, m.told())
		}
	}
}

// told is what those who serve said last.
func (m *team) told() string {
	var b strings.Builder
	for _, x := range m.machines {
		text, _ := os.ReadFile(x.says())
		fmt.Fprintf(&b, "%s (%d times): …%s; ", filepath.Base(x.dir), x.served, text[max(0, len(text)-300):])
	}
	return b.String()
}

// isTrue says what is not as it is declared, built twice, noted twice or not noted, or done twice.
func (m *team) isTrue() error {
	ctx := m.t.Context()
	all, err := m.a.Deployments(ctx)
	if err != nil {
		return err
	}
	declared := map[string]*plan.Plan{}
	for i := range all {
		if p := all[i].Stand.Plan; p != nil {
			declared[fmt.Sprint(all[i].Name, " ", all[i].ID)] = p
		}
	}
	if err := errors.Join(heldAsDeclared(m.box, declared), m.isOnBus(ctx)); err != nil {
		return err
	}
	v, err := m.a.VerifyTrail(ctx, "")
	if err != nil {
		return err
	}
	if len(v.Wrong) > 0 {
		return fmt.Errorf("the log is not whole: %v", v.Wrong)
	}
	c, err := m.a.Clock(ctx, time.Now(), 200)
	if err != nil {
		return err
	}
	times := map[string]int{}
	for _, f := range c.Last {
		key := fmt.Sprint(f.Kind, " ", f.Subject, " ", f.At)
		if times[key]++; times[key] > 1 {
			return fmt.Errorf("%s was begun twice", key)
		}
	}
	return nil
}
