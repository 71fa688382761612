package main

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"golang.org/x/crypto/ssh"

	"andamio/internal/app"
	"andamio/internal/core/dispatch"
	"andamio/internal/core/estate"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/rehearse"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/service/runs"
	"andamio/internal/site"
	"andamio/internal/store"
	"andamio/internal/store/sqlite"
	"andamio/internal/tui"
	"andamio/internal/tui/deploy"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// generated is a plan of n networks that wait for each other as chance has it: each for up to three of the last sixty,
// with durations that spread over an order of magnitude, at three sites.
func generated(seed uint64, n int) *plan.Plan {
	r := rand.New(rand.NewPCG(seed, 17))
	p := &plan.Plan{Version: plan.Version, Name: "generated", Inputs: map[string]any{}}
	sites := []string{"one", "two", "three"}
	for _, s := range sites {
		p.Sites = append(p.Sites, plan.Site{Name: s, Kind: "private"})
	}
	for i := range n {
		id := fmt.Sprintf("n%05d", i)
		at := sites[r.IntN(len(sites))]
		s := plan.Step{ID: id + "/create", Resource: id, Op: op.Create, Title: "create network", Site: at, Seconds: 1 + 9*r.ExpFloat64(),
			Check: plan.Condition{Kind: plan.CheckSite}}
		for range r.IntN(4) {
			if i > 0 {
				s.After = append(s.After, p.Steps[max(i-1-r.IntN(60), 0)].ID)
			}
		}
		p.Resources = append(p.Resources, plan.Resource{ID: id, Node: id, Title: id, Kind: kinds.Network, Site: at, Spec: plan.NetworkSpec{Label: id}})
		p.Steps = append(p.Steps, s)
	}
	if err := p.Arrange(); err != nil {
		panic(err)
	}
	return p
}

// runs measures the running of plans.
func ofRuns(dir string) ([]result, error) {
	var out []result
	span := func(string) ([]result, error) { return []result{makespans()}, nil }
	// Frames first: the peak of memory is that of all that was measured before.
	for _, measure := range []func(string) ([]result, error){frames, span, overhead, journal} {
		more, err := measure(dir)
		if err != nil {
			return nil, err
		}
		out = append(out, more...)
	}
	return out, nil
}

const (
	plans       = 200
	leastSteps  = 200
	mostSteps   = 2000
	wholePlan   = 10_000
	inFlight    = 500
	eventsASec  = 1000
	framesFor   = 12 * time.Second
	mostBytes   = 300 << 20
	mostPerStep = 200 * time.Microsecond
	mostKept    = 100 * time.Microsecond
)

// makespans compares simulated runs of generated plans with what no order could beat: the critical path, or the whole
// work over as many as may go on at once.
func makespans() result {
	r := rand.New(rand.NewPCG(1, 1))
	worst, sum := 0.0, 0.0
	for seed := range uint64(plans) {
		p := generated(seed, leastSteps+r.IntN(mostSteps-leastSteps))
		work := 0.0
		for i := range p.Steps {
			work += p.Steps[i].Seconds
		}
		// About as many at once as the plan could use: far fewer, or far more, would be easy.
		limit := max(int(work/p.Seconds*math.Exp(1.4*r.Float64()-0.7)), 2)
		floor := max(p.Seconds, work/float64(limit))
		x := rehearse.Makespan(p, dispatch.Limits{Steps: limit}).Seconds() / floor
		worst, sum = max(worst, x), sum+x
	}
	fmt.Fprintf(os.Stderr, "makespan of %d generated plans: %.3f of the floor in the mean, %.3f at worst\n", plans, sum/plans, worst)
	return result{name: "makespan of 200 generated plans, at worst", ratio: worst, base: "critical path or work ÷ limit", most: 1.05}
}

// instant is a site that has what it is asked for a moment later, in memory.
type instant struct {
	name string
	took time.Duration
}

func (s *instant) Name() string                                              { return s.name }
func (s *instant) Describe(context.Context) (*estate.Site, error)            { return nil, nil }
func (s *instant) List(context.Context, kinds.Kind) ([]site.Resource, error) { return nil, nil }
func (s *instant) Delete(context.Context, kinds.Kind, string) error          { return nil }
func (s *instant) Invoke(context.Context, kinds.Kind, string, string) (site.Resource, error) {
	return site.Resource{}, nil
}
func (s *instant) Change(context.Context, kinds.Kind, string, site.Request) (site.Resource, error) {
	return site.Resource{}, nil
}
func (s *instant) Read(_ context.Context, kind kinds.Kind, id string) (site.Resource, error) {
	return site.Resource{Kind: kind, ID: id, State: site.Active, Word: "active"}, nil
}
func (s *instant) Create(_ context.Context, r site.Request) (site.Resource, error) {
	time.Sleep(s.took)
	return site.Resource{Kind: r.Kind, ID: "id-" + r.Name, State: site.Active, Word: "active"}, nil
}

// nowhere is a journal that keeps nothing.
type nowhere struct{}

func (nowhere) Append(...run.Event) error { return nil }

// flat is a plan of n steps that all may go on at once.
func flat(n int) *plan.Plan {
	p := generated(1, n)
	for i := range p.Steps {
		p.Steps[i].After, p.Steps[i].Seconds = nil, 0.02
	}
	if err := p.Arrange(); err != nil {
		panic(err)
	}
	return p
}

func execute(p *plan.Plan, j engine.Journal) (time.Duration, error) {
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		return 0, err
	}
	key, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return 0, err
	}
	sites := map[string]site.Site{}
	const took = 20 * time.Millisecond
	for _, s := range p.Sites {
		sites[s.Name] = &instant{name: s.Name, took: took}
	}
	e := &engine.Engine{Run: "r", Mark: "d", Plan: p, Sites: sites, Journal: j, Key: key, Limits: dispatch.Limits{Steps: inFlight, PerSite: inFlight}}
	begun := time.Now()
	err = e.Execute(context.Background())
	// What the sites themselves take is no overhead: with 500 at once, that of one in 500.
	return time.Since(begun) - took*time.Duration(len(p.Steps)/inFlight), err
}

// overhead measures what the engine itself takes for a step, with a journal that keeps nothing and with the real one.
func overhead(dir string) ([]result, error) {
	p := flat(wholePlan)
	bare, err := execute(p, nowhere{})
	if err != nil {
		return nil, err
	}
	s, j, _, err := journalled(dir, "overhead", p)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	kept, err := execute(p, j)
	if err != nil {
		return nil, err
	}
	return []result{
		{name: "engine, a step of 10,000, 500 at once", figure: bare / wholePlan, ratio: 1, base: "itself", target: mostPerStep},
		{name: "the same with the journal", figure: kept / wholePlan, ratio: ratio(kept, bare), base: "the same without the journal", target: mostKept},
	}, nil
}

// journalled is a run of a plan in a new database, claimed.
func journalled(dir, name string, p *plan.Plan) (*sqlite.Store, store.Journal, int64, error) {
	ctx := context.Background()
	if err := os.MkdirAll(filepath.Join(dir, name), 0o700); err != nil {
		return nil, nil, 0, err
	}
	s, err := sqlite.Open(ctx, filepath.Join(dir, name, "andamio.db"))
	if err != nil {
		return nil, nil, 0, err
	}
	j, id, err := claimed(ctx, s, p)
	return s, j, id, err
}

// claimed makes a run of a plan in a store and claims it.
func claimed(ctx context.Context, s store.Store, p *plan.Plan) (store.Journal, int64, error) {
	planID, err := s.SavePlan(ctx, p)
	if err != nil {
		return nil, 0, err
	}
	d, err := s.CreateDeployment(ctx, p.Name, "", guard.Owner{})
	if err != nil {
		return nil, 0, err
	}
	id, err := s.CreateRun(ctx, store.Run{Plan: planID, Deployment: d, Wanted: planID, Steps: len(p.Steps), Limits: "{}"})
	if err != nil {
		return nil, 0, err
	}
	epoch, err := s.Claim(ctx, id, 0, store.WorkerOn("bench", os.Getpid()), runs.Alive)
	if err != nil {
		return nil, 0, err
	}
	j, err := s.Journal(ctx, id, epoch)
	return j, id, err
}

// journal measures how many events a second are written, by 64 goroutines, each of which waits until its own survives.
func journal(dir string) ([]result, error) {
	s, j, _, err := journalled(dir, "journal", flat(10))
	if err != nil {
		return nil, err
	}
	defer s.Close()
	const writers, each = 64, 400
	begun := time.Now()
	var group sync.WaitGroup
	var failed error
	for w := range writers {
		group.Go(func() {
			for i := range each {
				if err := j.Append(run.Event{At: time.Now(), Kind: run.Logged, Step: "n00001/create", Text: fmt.Sprint("line ", w, i)}); err != nil {
					failed = err
				}
			}
		})
	}
	group.Wait()
	took := time.Since(begun)
	rate := float64(writers*each) / took.Seconds()
	fmt.Fprintf(os.Stderr, "journal: %.0f events a second\n", rate)
	return []result{{name: "journal, 1,000 events", figure: took / (writers * each / 1000), ratio: rate / 5000, base: "times 5,000 events a second", target: 200 * time.Millisecond}}, failed
}

// frames watches a run of 10,000 steps in the Deploy view while 1,000 events a second arrive, and measures each frame:
// what it takes to hear what arrived, to draw, and to render.
func frames(dir string) ([]result, error) {
	p := generated(3, wholePlan)
	s, j, id, err := journalled(dir, "frames", p)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	if err := j.Append(run.Event{At: time.Now(), Kind: run.RunStarted}); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), framesFor)
	defer cancel()
	go arrive(ctx, j, p)
	a, err := app.Open(ctx, filepath.Join(dir, "frames"))
	if err != nil {
		return nil, err
	}
	defer a.Close()
	defer debug.SetGCPercent(debug.SetGCPercent(-1))
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(-1))
	tui.TuneRuntime() // as the screens do
	took, err := watchFrames(ctx, a, id)
	if err != nil {
		return nil, err
	}
	used := peak()
	fmt.Fprintf(os.Stderr, "frames: %d drawn, peak memory of the whole process %d MiB\n", len(took), used>>20)
	p99 := percentile(took, 99)
	mem := result{name: "peak memory then, MiB", ratio: float64(used) / mostBytes, base: fmt.Sprintf("%d MiB of 300", used>>20), most: 1}
	return []result{{name: "frame, 10,000 steps, 1,000 events/s, p99", figure: p99, ratio: ratio(p99, percentile(took, 50)), base: "the median", target: 16 * time.Millisecond}, mem}, nil
}

// arrive journals events at the rate until the context ends.
func arrive(ctx context.Context, j store.Journal, p *plan.Plan) {
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	n := 0
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		var batch []run.Event
		for range eventsASec / 100 {
			st := &p.Steps[n/2%len(p.Steps)]
			kind := run.StepStarted
			if n%2 == 1 {
				kind = run.StepDone
			}
			batch = append(batch, run.Event{At: time.Now(), Kind: kind, Step: st.ID, Resource: st.Resource})
			n++
		}
		if err := j.Append(batch...); err != nil {
			return
		}
	}
}

// watchFrames gives the view its messages as they come and draws it 30 times a second.
func watchFrames(ctx context.Context, a *app.App, id int64) ([]time.Duration, error) {
	v := deploy.New(ctx, a)
	look := part.NewLook(false, false, colorprofile.TrueColor)
	msgs := make(chan tea.Msg, 1024)
	var give func(cmd tea.Cmd)
	give = func(cmd tea.Cmd) {
		if cmd == nil {
			return
		}
		go func() {
			switch msg := cmd().(type) {
			case tea.BatchMsg:
				for _, c := range msg {
					give(c)
				}
			default:
				select {
				case msgs <- msg:
				case <-ctx.Done():
				}
			}
		}()
	}
	give(v.Update(view.OpenRun{ID: id}))
	var out []time.Duration
	tick := time.NewTicker(33 * time.Millisecond)
	defer tick.Stop()
	warm := time.Now().Add(2 * time.Second)
	for {
		select {
		case <-ctx.Done():
			return out, nil
		case <-tick.C:
		}
		begun := time.Now()
		for more := true; more; {
			select {
			case msg := <-msgs:
				give(v.Update(msg))
			default:
				more = false
			}
		}
		c := part.NewCanvas(look, 160, 47)
		v.Draw(c, part.Rect{X: 0, Y: 2, W: 160, H: 43}, time.Now().Truncate(250*time.Millisecond))
		if text := c.String(); !strings.Contains(text, "generated") && time.Now().After(warm) {
			return nil, fmt.Errorf("the view does not show the run")
		}
		if time.Now().After(warm) {
			out = append(out, time.Since(begun))
		}
	}
}

// peak is the most memory that the process has had, in bytes.
func peak() int64 {
	data, err := os.ReadFile("/proc/self/status")
	if err == nil {
		for line := range strings.Lines(string(data)) {
			var kib int64
			if n, _ := fmt.Sscanf(line, "VmHWM: %d kB", &kib); n == 1 {
				return kib << 10
			}
		}
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.Sys)
}
