package crash

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"andamio/examples"
	"andamio/internal/app"
	"andamio/internal/core/change"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
)

// Moves moves one workload about between all sites again and again, killing workers, until there were enough kills. Some
// moves are gone back from, wherever they are. The error says when two sides served at once, when none does in the end,
// or when a block was lost.
func (t Trial) Moves(ctx context.Context) (Result, error) {
	var out Result
	begun := time.Now()
	r := rand.New(rand.NewPCG(t.Seed, 5))
	m, err := t.beginMoving(ctx, r)
	if err != nil {
		return out, err
	}
	defer m.close()
	return t.rounds(ctx, m, r, begun)
}

// rounds has it be moved, or fail over, until so many workers were killed.
func (t Trial) rounds(ctx context.Context, m *mover, r *rand.Rand, begun time.Time) (out Result, err error) {
	round := m.round
	if m.copies {
		round = m.failOver
	}
	for n := 0; out.Kills < t.Kills; n++ {
		if err := round(ctx, r, &out); err != nil {
			return out, fmt.Errorf("move %d of seed %d, after %d kills: %w", n, t.Seed, out.Kills, err)
		}
	}
	out.Seconds = time.Since(begun).Seconds()
	return out, nil
}

// mover is a workload that is moved about.
type mover struct {
	t          Trial
	a          *app.App
	box        *sandbox.Sandbox
	deployment int64
	at         string
	sites      []string
	watch      *watch
	// copies says that it fails over to copies instead of being moved.
	copies bool
}

const (
	theHost = "log-host-1"
	thePage = "level 2.10 m at the dam\n"
)

func (t Trial) beginMoving(ctx context.Context, r *rand.Rand) (*mover, error) {
	e, err := templates.DemoEstate()
	if err != nil {
		return nil, err
	}
	m := &mover{t: t}
	for _, s := range e.Sites {
		s.Bandwidth = nil
		if t.Copied {
			s.Features = withoutSnapshots(s.Features)
		}
		m.sites = append(m.sites, s.Name)
	}
	m.box, err = sandbox.Start(sandbox.Config{Estate: e, Pace: t.Pace, Seed: t.Seed, Zone: "ribera.test", System: 24 << 20, Churn: 64 << 10, Record: true})
	if err != nil {
		return nil, err
	}
	if m.a, err = t.open(ctx, fmt.Sprintf("moves-%d", t.Seed)); err != nil {
		m.box.Close()
		return nil, err
	}
	if err := m.raise(ctx, r); err != nil {
		m.close()
		return nil, err
	}
	m.watch = watchSides(m.box)
	return m, nil
}

func (m *mover) close() {
	if m.watch != nil {
		m.watch.stop()
	}
	m.a.Close()
	m.box.Close()
}

// raise connects and pairs the stand-ins, and has the workload stand at one of them.
func (m *mover) raise(ctx context.Context, r *rand.Rand) error {
	if err := m.a.ConnectSandbox(m.box); err != nil {
		return err
	}
	z, err := m.a.Zone()
	if err != nil {
		return err
	}
	z.TTL = 0
	if err := setZone(ctx, m.a, *z); err != nil {
		return err
	}
	for i, x := range m.sites {
		for _, y := range m.sites[:i] {
			if _, err := m.a.MakePair(ctx, x, y, sites.Both); err != nil {
				return err
			}
		}
	}
	files, err := fs.Sub(examples.Files, "level-log")
	if err != nil {
		return err
	}
	tmpl, err := templates.ReadTemplate(files, "level-log", "template.yaml")
	if err != nil {
		return err
	}
	e, err := m.a.Estate(ctx)
	if err != nil {
		return err
	}
	d := templates.NewDraft(tmpl, templates.DraftRequest{}, e)
	if d.Plan == nil {
		return errors.Join(errors.New("the workload has no plan"), d.Err)
	}
	id, err := m.a.NewRun(ctx, deployments.Order{Plan: d.Plan})
	if err != nil {
		return err
	}
	if err := m.t.withKills(0).toTheEnd(ctx, m.a, r, id, &Result{}); err != nil {
		return err
	}
	made, err := m.a.Run(ctx, id)
	m.deployment, m.at = made.Deployment, d.Plan.Resource(theHost).Site
	return err
}

// withKills is the trial with another number of kills.
func (t Trial) withKills(n int) Trial { t.Kills = n; return t }

// round moves the workload once, with kills, and commits or goes back.
func (m *mover) round(ctx context.Context, r *rand.Rand, out *Result) error {
	to := m.at
	for to == m.at {
		to = m.sites[r.IntN(len(m.sites))]
	}
	mode := []change.Mode{change.Cold, change.Warm, change.Live}[r.IntN(3)]
	d, err := m.a.DraftMove(ctx, m.deployment, moves.Request{What: []string{theHost}, To: to, Mode: mode, AtOnce: true})
	if err != nil {
		return err
	}
	id, runID, err := m.a.StartMove(ctx, d, nil)
	if err != nil {
		return err
	}
	m.t.Log("%s from %s to %s", mode, m.at, to)
	there, err := m.there(ctx, r, runID, out)
	if err != nil {
		return err
	}
	if !there {
		return m.end(ctx, r, id, to, false, out)
	}
	if err := m.like(ctx, to); err != nil {
		return err
	}
	return m.end(ctx, r, id, to, r.IntN(2) == 0, out)
}

// there has workers move it, killing them; false if it is to be gone back from before it is there.
func (m *mover) there(ctx context.Context, r *rand.Rand, id int64, out *Result) (bool, error) {
	out.Runs++
	for range patience {
		killed, err := m.t.work(ctx, m.a, r, id, out.Kills < m.t.Kills)
		if err := errors.Join(err, m.watch.err()); err != nil {
			return false, err
		}
		state, err := m.a.Replay(ctx, id)
		if err != nil {
			return false, err
		}
		if err := replays(ctx, m.a, id, state); err != nil {
			return false, err
		}
		if killed {
			if out.Kills++; r.IntN(6) == 0 {
				m.t.Log("run %d is given up after a kill", id)
				return false, nil
			}
			continue
		}
		if state.Status == run.Standing {
			return true, nil
		}
		for i := range state.Steps {
			if st := &state.Steps[i]; st.Status == run.Failed {
				m.t.Log("run %d: %s: %s", id, st.ID, st.Error)
			}
		}
		if err := m.a.Resume(ctx, id); err != nil {
			return false, err
		}
		out.Resumes++
	}
	return false, fmt.Errorf("run %d did not end after %d workers", id, patience)
}

// like checks that what the workload was switched on with is what is kept, block by block.
func (m *mover) like(ctx context.Context, to string) error {
	d, err := m.a.Deployment(ctx, m.deployment)
	if err != nil {
		return err
	}
	there := m.box.Digests()
	for _, id := range []string{theHost, "log-vol-1"} {
		kept := d.Stand.Plan.Known[change.KeptID(id, m.at)]["site.id"]
		digest, err := m.box.DiskDigest(m.at, kept)
		if err != nil {
			return err
		}
		if now := d.Stand.Plan.Known[id]["site.id"]; there[now] != digest {
			return fmt.Errorf("%s had %s on it when it was switched on at %s as %s, and at %s there is %s", id, there[now], to, now, m.at, digest)
		}
	}
	return m.serves(ctx, to)
}

// end goes back or commits, with kills, and checks that one side serves and nothing is left of the other.
func (m *mover) end(ctx context.Context, r *rand.Rand, id int64, to string, commit bool, out *Result) error {
	act, left, at := m.a.GoBack, to, m.at
	if commit {
		act, left, at = m.a.Commit, m.at, to
	}
	runID, err := act(ctx, id, 0)
	if err != nil {
		return err
	}
	if made, err := m.a.Run(ctx, runID); err != nil || !made.Void { // one that was never begun is over at once
		if err := errors.Join(err, m.t.toTheEnd(ctx, m.a, r, runID, out)); err != nil {
			return err
		}
	}
	m.at = at
	if err := errors.Join(m.watch.err(), m.serves(ctx, at)); err != nil {
		return err
	}
	if m.copies {
		if err := m.drop(ctx, r, to, out); err != nil {
			return err
		}
	}
	for _, h := range m.box.Holds() {
		if h.Site == left {
			return fmt.Errorf("something is left at %s: %+v", left, h)
		}
	}
	return nil
}

// serves checks that the page is served at one site alone, under its name.
func (m *mover) serves(ctx context.Context, at string) error {
	if on := sides(m.box); !slices.Equal(on, []string{at}) {
		return fmt.Errorf("it is to serve at %s and is on at %v", at, on)
	}
	z, err := m.a.Zone()
	if err != nil {
		return err
	}
	address, port, _, err := z.Ask(ctx, z.Resolvers[0], "level-log-1", "http")
	if err != nil {
		return err
	}
	web := http.Client{Timeout: 3 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	resp, err := web.Get("http://" + net.JoinHostPort(address, strconv.Itoa(port)) + "/levels/")
	if err != nil {
		return fmt.Errorf("by its name it does not answer: %w", err)
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	if err == nil && string(body) != thePage {
		err = fmt.Errorf("by its name it answers %q", body)
	}
	return err
}

// sides are the sites at which the workload is on.
func sides(box *sandbox.Sandbox) []string {
	var out []string
	for _, h := range box.Holds() {
		if h.Term == "compute" && strings.HasPrefix(h.Title, theHost) && h.Word == "active" {
			out = append(out, h.Site)
		}
	}
	return out
}

// watch looks all the time that never two sides serve.
type watch struct {
	mu   sync.Mutex
	bad  error
	done chan struct{}
}

func watchSides(box *sandbox.Sandbox) *watch {
	w := &watch{done: make(chan struct{})}
	go func() {
		for {
			select {
			case <-w.done:
				return
			case <-time.After(2 * time.Millisecond):
			}
			// Sites are looked at one after another: what is seen at two must be seen so twice.
			if first := sides(box); len(first) > 1 {
				if again := sides(box); len(again) > 1 {
					w.mu.Lock()
					w.bad = fmt.Errorf("two sides are on at once: %v, %v", first, again)
					w.mu.Unlock()
				}
			}
		}
	}()
	return w
}

func (w *watch) err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.bad
}

func (w *watch) stop() { close(w.done) }
