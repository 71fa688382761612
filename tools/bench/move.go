package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"andamio/examples"
	"andamio/internal/app"
	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/run"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/site"
	"andamio/internal/site/occi"
)

// What moves promise: a first copy as fast as 0.6 of cp or more, a round that moves little beside what changed, digests
// of 1 GB a second, an end that is foretold, and a live move that is hardly noticed.
const (
	diskBytes   = 2 << 30
	copyRatio   = 1 / 0.6
	roundExcess = 1.05
	roundShare  = 0.001
	foretold    = 0.10
)

// quick is the stand-ins' pace: bandwidths are given so that they come out as they are meant.
const quick = 0.02

// moved measures moves.
func moved(dir string) ([]result, error) {
	ctx := context.Background()
	told, err := foretelling(ctx, dir) // first: what is written back to the disk meanwhile slows others down
	if err != nil {
		return nil, err
	}
	pair, err := pairOf(ctx)
	if err != nil {
		return nil, err
	}
	defer pair.box.Close()
	copied, err := pair.firstCopies(ctx, dir)
	if err != nil {
		return nil, err
	}
	rest, err := pair.rounds(ctx)
	if err != nil {
		return nil, err
	}
	live, err := live(ctx, dir)
	return slices.Concat(copied, rest, told, live), err
}

// pair are two paired stand-ins.
type pairing struct {
	box  *sandbox.Sandbox
	from *occi.Driver
	to   *occi.Driver
	disk string
}

func pairOf(ctx context.Context) (*pairing, error) {
	e := &estate.Estate{Version: estate.Version, Currency: "cr"}
	for _, name := range []string{"arroyo", "loma"} {
		e.Sites = append(e.Sites, &estate.Site{Name: name, Kind: estate.Private, Network: estate.Address, Pace: 1, FreeForm: true,
			Zones:  []estate.Zone{{Name: "a", Free: estate.Capacity{Cores: 8, MemoryGiB: 32, DiskGiB: 900}, Total: estate.Capacity{Cores: 8, MemoryGiB: 32, DiskGiB: 900}}},
			Images: []estate.Image{{Name: "debian-12", OS: "linux"}}, Timings: estate.Timings{Volume: 0.01}})
	}
	box, err := sandbox.Start(sandbox.Config{Estate: e, Pace: quick})
	if err != nil {
		return nil, err
	}
	p := &pairing{box: box, from: occi.New("arroyo", box.Endpoints[0].URL, box.Endpoints[0].Token), to: occi.New("loma", box.Endpoints[1].URL, box.Endpoints[1].Token)}
	a, errA := p.from.Self(ctx)
	b, errB := p.to.Self(ctx)
	b.MayStart = true
	r, errC := p.from.Create(ctx, site.Request{Kind: kinds.Volume, Name: "source", DiskGiB: 3})
	p.disk = r.ID
	return p, errors.Join(errA, errB, errC, p.from.Pair(ctx, b), p.to.Pair(ctx, a))
}

// fill writes random bytes to the source.
func (p *pairing) fill(ctx context.Context, bytes int64) error {
	rng := rand.NewChaCha8([32]byte{3})
	part := make([]byte, site.MaxPart)
	for off := int64(0); off < bytes; off += int64(len(part)) {
		_, _ = rng.Read(part)
		if err := p.from.WriteDisk(ctx, p.disk, off, part); err != nil {
			return err
		}
	}
	return nil
}

func (p *pairing) target(ctx context.Context) (string, error) {
	r, err := p.to.Create(ctx, site.Request{Kind: kinds.Volume, Name: "target", DiskGiB: 3})
	return r.ID, err
}

// firstCopies copies a disk whole and verified, and a file of the same bytes by cp, in turn, each to a new one.
func (p *pairing) firstCopies(ctx context.Context, dir string) ([]result, error) {
	if err := p.fill(ctx, diskBytes); err != nil {
		return nil, err
	}
	file := filepath.Join(dir, "disk")
	if err := writeFile(file, diskBytes); err != nil {
		return nil, err
	}
	defer os.Remove(file)
	c, err := p.from.Changes(ctx, p.disk, "", 0)
	if err != nil {
		return nil, err
	}
	var ours, theirs []time.Duration
	for range 5 {
		id, err := p.target(ctx)
		if err != nil {
			return nil, err
		}
		time.Sleep(100 * time.Millisecond)
		start := time.Now()
		got, err := p.to.Copy(ctx, id, site.CopyRequest{Peer: "arroyo", Disk: p.disk, Written: c.Written})
		if err != nil || got.Verified != diskBytes {
			return nil, errors.Join(err, fmt.Errorf("%d bytes were verified", got.Verified))
		}
		ours = append(ours, time.Since(start))
		if err := p.to.Delete(ctx, kinds.Volume, id); err != nil {
			return nil, err
		}
		took, err := timed(exec.Command("cp", "--sparse=never", "--reflink=never", file, file+".copy"))
		if err != nil {
			return nil, err
		}
		theirs = append(theirs, took)
		if err := os.Remove(file + ".copy"); err != nil {
			return nil, err
		}
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	start := time.Now()
	for off := int64(0); off < 1<<30; off += 64 << 20 {
		if _, err := p.from.Hashes(ctx, p.disk, site.Extent{Offset: off, Length: 64 << 20}, 64<<10); err != nil {
			return nil, err
		}
	}
	hashing := time.Since(start)
	return []result{
		{name: "first copy of 2 GiB, verified, over HTTP", figure: ours[2], ratio: ratio(ours[2], theirs[2]), base: "cp of such a file: " + show(theirs[2]), most: copyRatio},
		{name: "digests of 1 GiB by blocks, one core", figure: hashing, ratio: ratio(hashing, ours[2]), base: "the first copy", target: 1074 * time.Millisecond},
	}, nil
}

func writeFile(name string, bytes int64) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	if _, err := io.CopyN(f, rand.NewChaCha8([32]byte{4}), bytes); err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// rounds changes single pages all over the disk and counts what a round moves.
func (p *pairing) rounds(ctx context.Context) ([]result, error) {
	id, err := p.target(ctx)
	if err != nil {
		return nil, err
	}
	time.Sleep(100 * time.Millisecond)
	first, err := p.from.Changes(ctx, p.disk, "", 0)
	if err != nil {
		return nil, err
	}
	rng := rand.New(rand.NewPCG(5, 5))
	page := make([]byte, 4096)
	seen := map[int64]bool{}
	for len(seen) < 4000 {
		at := rng.Int64N(diskBytes/4096) * 4096
		for i := range page {
			page[i] = byte(rng.Uint32())
		}
		if err := p.from.WriteDisk(ctx, p.disk, at, page); err != nil {
			return nil, err
		}
		seen[at] = true
	}
	changed := int64(len(seen)) * 4096
	c, err := p.from.Changes(ctx, p.disk, first.Epoch, first.UpTo)
	if err != nil {
		return nil, err
	}
	start := time.Now()
	got, err := p.to.Copy(ctx, id, site.CopyRequest{Peer: "arroyo", Disk: p.disk, Written: c.Written})
	took := time.Since(start)
	may := roundExcess*float64(changed) + roundShare*3*(1<<30)
	return []result{{name: "round of 4,000 pages changed at random", figure: took, ratio: float64(got.Wire) / float64(changed),
		base: fmt.Sprintf("%.1f MB changed", float64(changed)/1e6), most: may / float64(changed)}}, err
}

// foretelling moves a workload with two disks that change over a slow link, and says from a quarter of the first copy
// when everything is there; then it looks how right that was.
func foretelling(ctx context.Context, dir string) ([]result, error) {
	w, err := standing(ctx, filepath.Join(dir, "foretold"), 40, 400<<20)
	if err != nil {
		return nil, err
	}
	defer w.close()
	w.box.Busy("log-host-1", 4_000_000, 48<<20)
	d, err := w.app.DraftMove(ctx, w.deployment, moves.Request{What: []string{"log-host"}, To: w.to, Mode: change.Warm, AtOnce: true, Compress: "off"})
	if err != nil {
		return nil, err
	}
	begun := time.Now()
	_, id, err := w.app.StartMove(ctx, d, nil)
	if err != nil {
		return nil, err
	}
	at, said, err := w.quarter(ctx, id, d.Loads["log-host-1"])
	if err != nil {
		return nil, err
	}
	if err := w.wait(ctx, id); err != nil {
		return nil, err
	}
	r, err := w.app.Replay(ctx, id)
	if err != nil {
		return nil, err
	}
	rest := r.Ended.Sub(at)
	whole := r.Ended.Sub(begun)
	off := math.Abs(float64(said-rest)) / float64(whole)
	return []result{{name: "end of a move foretold from a quarter, off by", figure: (said - rest).Abs(), ratio: off, base: "the whole: " + show(whole), most: foretold}}, nil
}

// quarter waits until a quarter of the first copy is done, and says when that was and how long it goes on yet.
func (w *world) quarter(ctx context.Context, id int64, load migrate.Load) (time.Time, time.Duration, error) {
	for {
		s, err := w.app.Replay(ctx, id)
		if err != nil {
			return time.Time{}, 0, err
		}
		done, whole := int64(0), int64(0)
		for _, d := range s.Disks {
			done, whole = done+d.Bytes, whole+d.Whole
		}
		now := time.Now()
		if rest, known := migrate.RestOf(s, "log-host-1", load, now); known && whole > 0 && done >= whole/4 {
			return now, rest.Whole(), nil
		}
		if s.Failures > 0 {
			return now, 0, errors.New("the move failed before a quarter was copied")
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// world is stand-ins with a slow link between two of them, and the page of levels at one.
type world struct {
	app        *app.App
	box        *sandbox.Sandbox
	deployment int64
	to         string
}

// standing raises the page of levels, on disks of so many bytes, where so many megabytes a second get through to another
// site.
func standing(ctx context.Context, dir string, mb float64, system int64) (*world, error) {
	e, err := templates.DemoEstate()
	if err != nil {
		return nil, err
	}
	for _, s := range e.Sites {
		s.Bandwidth = map[string]float64{}
		for _, o := range e.Sites {
			s.Bandwidth[o.Name] = mb * quick
		}
		s.Pace = 1
	}
	w := &world{}
	if w.box, err = sandbox.Start(sandbox.Config{Estate: e, Pace: quick, Zone: "ribera.test", System: system}); err != nil {
		return nil, err
	}
	if w.app, err = app.Open(ctx, dir, app.InProcess(ctx)); err != nil {
		w.box.Close()
		return nil, err
	}
	from := ""
	if w.deployment, from, err = raiseLog(ctx, w.app, w.box); err == nil {
		if w.to = "alisio-sur"; from == w.to {
			w.to = "vega"
		}
		_, err = w.app.MakePair(ctx, from, w.to, sites.Both)
	}
	if err != nil {
		w.close()
		return nil, err
	}
	return w, nil
}

func (w *world) close() {
	w.app.Close()
	w.box.Close()
}

// why says which steps of a run failed, and why.
func (w *world) why(ctx context.Context, id int64) string {
	s, err := w.app.Replay(ctx, id)
	if err != nil {
		return err.Error()
	}
	text := ""
	for i := range s.Steps {
		if st := &s.Steps[i]; st.Error != "" {
			text += st.ID + ": " + st.Error + " "
		}
	}
	return text
}

// wait waits until a run stands.
func (w *world) wait(ctx context.Context, id int64) error {
	for {
		r, err := w.app.Run(ctx, id)
		switch {
		case err != nil:
			return err
		case r.State == run.Standing:
			return nil
		case r.State != run.UnderWay && r.State != run.Planned:
			return fmt.Errorf("run %d %s: %s", id, r.State, w.why(ctx, id))
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// live moves a workload that changes at half the bandwidth, while a client asks it by its name all the time.
func live(ctx context.Context, dir string) ([]result, error) {
	const mb = 24
	w, err := standing(ctx, filepath.Join(dir, "live"), mb, 64<<20)
	if err != nil {
		return nil, err
	}
	defer w.close()
	w.box.Busy("log-host-1", mb*1e6/2, 48<<20)
	var asked, missed atomic.Int64
	stop := make(chan struct{})
	go ask(ctx, w.app, stop, &asked, &missed)
	d, err := w.app.DraftMove(ctx, w.deployment, moves.Request{What: []string{"log-host"}, To: w.to, Mode: change.Live, Pause: 0.5, AtOnce: true, Compress: "off"})
	if err != nil {
		return nil, err
	}
	start := time.Now()
	_, id, err := w.app.StartMove(ctx, d, nil)
	if err != nil {
		return nil, err
	}
	if err := w.wait(ctx, id); err != nil {
		return nil, err
	}
	took := time.Since(start)
	close(stop)
	return []result{{name: "live move at half the bandwidth, requests missed", figure: took, ratio: float64(missed.Load()),
		base: fmt.Sprintf("%d asked by name", asked.Load()), most: 1}}, nil
}

func raiseLog(ctx context.Context, a *app.App, box *sandbox.Sandbox) (int64, string, error) {
	if err := a.ConnectSandbox(box); err != nil {
		return 0, "", err
	}
	files, err := fs.Sub(examples.Files, "level-log")
	if err != nil {
		return 0, "", err
	}
	tmpl, err := templates.ReadTemplate(files, "level-log", "template.yaml")
	if err != nil {
		return 0, "", err
	}
	e, err := a.Estate(ctx)
	if err != nil {
		return 0, "", err
	}
	d := templates.NewDraft(tmpl, templates.DraftRequest{}, e)
	if d.Plan == nil {
		return 0, "", errors.Join(errors.New("the log has no plan"), d.Err)
	}
	id, err := a.NewRun(ctx, deployments.Order{Plan: d.Plan})
	if err != nil {
		return 0, "", err
	}
	if err := a.Work(ctx, id); err != nil {
		return 0, "", err
	}
	r, err := a.Run(ctx, id)
	return r.Deployment, d.Plan.Resource("log-host-1").Site, err
}

// ask asks the log by its name, again and again.
func ask(ctx context.Context, a *app.App, stop chan struct{}, asked, missed *atomic.Int64) {
	z, err := a.Zone()
	if err != nil {
		return
	}
	web := http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}}
	for {
		select {
		case <-stop:
			return
		case <-time.After(2 * time.Millisecond):
		}
		asked.Add(1)
		address, port, _, err := z.Ask(ctx, z.Resolvers[0], "level-log-1", "http")
		if err == nil {
			var resp *http.Response
			if resp, err = web.Get("http://" + net.JoinHostPort(address, strconv.Itoa(port)) + "/levels/"); err == nil {
				var body []byte
				body, err = io.ReadAll(resp.Body)
				resp.Body.Close()
				if err == nil && !strings.HasPrefix(string(body), "level 2.10") {
					err = errors.New("another page")
				}
			}
		}
		if err != nil {
			missed.Add(1)
		}
	}
}
