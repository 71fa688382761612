package crash

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/names"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/templates"
	"andamio/internal/store/postgres/server"
)

// Trial is a series of runs.
type Trial struct {
	// Program is the path of the program, which is run as the worker.
	Program string
	// Dir is for workspaces.
	Dir  string
	Seed uint64
	// Kills is how many workers are to be killed in all; Faults how likely a call meets each fault.
	Kills  int
	Faults float64
	Pace   float64
	// Log hears how it goes.
	Log func(format string, args ...any)
	// Copied says that no site keeps snapshots, so that disks are copied.
	Copied bool
	// Database is where workspaces are kept; nil keeps them in their folders.
	Database *server.Server
}

// Result is what came of a trial.
type Result struct {
	Runs, Kills, Resumes int
	// Falls is how often the sites fell and came back.
	Falls   int
	Seconds float64
}

// Run raises and retires the scenario again and again, killing workers, until there were enough kills. The error says
// what was lost, doubled or left over.
func (t Trial) Run(ctx context.Context) (Result, error) {
	var out Result
	begun := time.Now()
	r := rand.New(rand.NewPCG(t.Seed, 3))
	for round := 0; out.Kills < t.Kills; round++ {
		if err := t.round(ctx, r, round, &out); err != nil {
			return out, fmt.Errorf("round %d of seed %d, after %d kills: %w", round, t.Seed, out.Kills, err)
		}
	}
	out.Seconds = time.Since(begun).Seconds()
	return out, nil
}

// round raises the scenario once and retires it.
func (t Trial) round(ctx context.Context, r *rand.Rand, round int, out *Result) error {
	e, err := templates.DemoEstate()
	if err != nil {
		return err
	}
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: t.Pace, Seed: t.Seed + uint64(round), Faults: sandbox.Troubles(t.Faults)})
	if err != nil {
		return err
	}
	defer box.Close()
	a, err := t.open(ctx, fmt.Sprintf("%d-%d", t.Seed, round))
	if err != nil {
		return err
	}
	defer a.Close()
	if err := connect(a, box); err != nil {
		return err
	}
	p, err := scenario(ctx, a)
	if err != nil {
		return err
	}
	id, err := a.NewRun(ctx, deployments.Order{Plan: p})
	if err != nil {
		return err
	}
	if err := t.toTheEnd(ctx, a, r, id, out); err != nil {
		return err
	}
	if err := declared(box, p); err != nil {
		return err
	}
	made, err := a.Run(ctx, id)
	if err != nil {
		return err
	}
	back, err := a.Retiring(ctx, made.Deployment)
	if err != nil {
		return err
	}
	if id, err = a.NewRun(ctx, back); err != nil {
		return err
	}
	if err := t.toTheEnd(ctx, a, r, id, out); err != nil {
		return err
	}
	if left := box.Holds(); len(left) > 0 {
		return fmt.Errorf("everything was retired, and there is %v", left)
	}
	held, err := a.Reservations(ctx)
	if err == nil && len(held) > 0 {
		err = fmt.Errorf("everything was retired, and %v is held", held)
	}
	return err
}

// callTimeout is the patience with a site that does not answer, in seconds: short, since many do not.
const callTimeout = 0.4

func connect(a *app.App, box *sandbox.Sandbox) error {
	if err := a.ConnectSandbox(box); err != nil {
		return err
	}
	c, err := a.Connections()
	if err != nil {
		return err
	}
	for i := range c {
		c[i].Timeout = callTimeout
	}
	ws, closed, err := app.Files(context.Background(), a.Opened().Dir)
	if err != nil {
		return err
	}
	return errors.Join(ws.SetConnections(c), closed())
}

// setZone has names be kept so.
func setZone(ctx context.Context, a *app.App, z names.Zone) error {
	ws, closed, err := app.Files(ctx, a.Opened().Dir)
	if err != nil {
		return err
	}
	return errors.Join(ws.SetZone(z), closed())
}

// open opens a workspace of its own, which is in a database where the trial has one.
func (t Trial) open(ctx context.Context, name string) (*app.App, error) {
	dir := filepath.Join(t.Dir, name)
	if t.Database != nil {
		if _, err := app.Join(ctx, dir, t.Database.Address("w"+strings.ReplaceAll(name, "-", "_")), "", ""); err != nil {
			return nil, err
		}
	}
	return app.Open(ctx, dir, app.Idle())
}

func scenario(ctx context.Context, a *app.App) (*plan.Plan, error) {
	t, err := templates.DemoTemplate()
	if err != nil {
		return nil, err
	}
	e, err := a.Estate(ctx)
	if err != nil {
		return nil, err
	}
	d := templates.NewDraft(t, templates.DraftRequest{Preset: "drill"}, e)
	if d.Plan == nil {
		return nil, errors.Join(errors.New("the scenario has no plan"), d.Err)
	}
	return d.Plan, nil
}

// patience is how many workers a run may need, and endsWithin how long all of them may take: a run that never ends is a failure too.
const (
	patience   = 200
	endsWithin = 6 * time.Minute
)

// toTheEnd has workers work on a run, and kills each after a random while, until one ends by itself with everything as it
// should be. What failed for good is decided to be tried again.
func (t Trial) toTheEnd(ctx context.Context, a *app.App, r *rand.Rand, id int64, out *Result) error {
	out.Runs++
	began := time.Now()
	for worker := range patience {
		if time.Since(began) > endsWithin {
			return fmt.Errorf("run %d did not end within %s, by %d workers", id, endsWithin, worker)
		}
		killed, err := t.work(ctx, a, r, id, out.Kills < t.Kills)
		if err != nil {
			return err
		}
		state, err := a.Replay(ctx, id)
		if err != nil {
			return err
		}
		if err := replays(ctx, a, id, state); err != nil {
			return err
		}
		if killed {
			out.Kills++
			continue
		}
		if state.Status == run.Standing {
			t.Log("run %d ended after %d workers: %s", id, worker+1, state.Text)
			return nil
		}
		for i := range state.Steps {
			if st := &state.Steps[i]; st.Status == run.Failed {
				t.Log("run %d: %s: %s", id, st.ID, st.Error)
			}
		}
		if err := a.Resume(ctx, id); err != nil {
			return err
		}
		out.Resumes++
	}
	return fmt.Errorf("run %d did not end after %d workers", id, patience)
}

// work runs a worker and kills it after a random while.
func (t Trial) work(ctx context.Context, a *app.App, r *rand.Rand, id int64, kill bool) (killed bool, err error) {
	cmd := exec.CommandContext(ctx, t.Program, "work", strconv.FormatInt(id, 10), "--workspace", a.Opened().Dir)
	var text strings.Builder
	cmd.Stderr = &text
	if err := cmd.Start(); err != nil {
		return false, err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	after := time.Duration(30+r.IntN(700)) * time.Millisecond
	if !kill {
		after = time.Hour
	}
	select {
	case err := <-ended:
		var exit *exec.ExitError
		if err != nil && !errors.As(err, &exit) {
			return false, err
		}
		if strings.Contains(text.String(), "panic") {
			return false, errors.New(text.String())
		}
		return false, nil
	case <-time.After(after):
		_ = cmd.Process.Kill() // SIGKILL: it can do nothing about it
		<-ended
		return true, nil
	}
}

// replays checks that the journal read twice, and read in pieces, gives the same state.
func replays(ctx context.Context, a *app.App, id int64, once *run.State) error {
	state := run.New(once.Plan)
	for {
		events, err := a.Events(ctx, id, state.LastSeq, 7)
		if err != nil {
			return err
		}
		for i, e := range events {
			if e.Seq != state.LastSeq+1 {
				return fmt.Errorf("the journal of run %d has a hole before event %d (%d)", id, e.Seq, i)
			}
			state.Apply(e)
		}
		if len(events) == 0 {
			break
		}
	}
	for i := range state.Steps {
		if state.Steps[i].Status != once.Steps[i].Status {
			return fmt.Errorf("%s is %s at one reading of the journal and %s at another", state.Steps[i].ID, state.Steps[i].Status, once.Steps[i].Status)
		}
	}
	return nil
}

// declared checks that the sites hold exactly what a plan builds: each thing once, active, and nothing else.
func declared(box *sandbox.Sandbox, p *plan.Plan) error {
	want := map[string]string{}
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Check.Kind == plan.CheckSite {
			want[s.ID] = s.Site
		}
	}
	seen := map[string]string{}
	var wrong []string
	for _, h := range box.Holds() {
		fields := strings.SplitN(h.Mark, " ", 3)
		step := ""
		if len(fields) == 3 {
			step, _, _ = strings.Cut(fields[2], " #")
		}
		switch {
		case want[step] != h.Site:
			wrong = append(wrong, fmt.Sprintf("nobody declared %s %s at %s (mark %q)", h.Term, h.ID, h.Site, h.Mark))
		case seen[step] != "":
			wrong = append(wrong, fmt.Sprintf("%s was built twice: %s and %s", step, seen[step], h.ID))
		case h.Word != "active" && h.Word != "online":
			wrong = append(wrong, fmt.Sprintf("%s is %s", step, h.Word))
		}
		seen[step] = h.ID
	}
	for step := range want {
		if seen[step] == "" {
			wrong = append(wrong, step+" was never built")
		}
	}
	if len(wrong) > 0 {
		slices.Sort(wrong)
		return errors.New(strings.Join(wrong, "; "))
	}
	return nil
}
