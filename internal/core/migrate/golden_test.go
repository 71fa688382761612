package migrate

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/golden"
)

// TestDifferencesOfEveryWay writes down all that will be otherwise for some workloads at each site that they can go to.
func TestDifferencesOfEveryWay(t *testing.T) {
	stand, e := standing(t), scenario(t)
	stand.Plan.Known["forecast-port-1"] = map[string]string{"address": "127.8.17.9", "port.8090": "30080"}
	stand.Plan.Known["dispatch-port-1"] = map[string]string{"address": "127.8.17.5", "mac": "02:00:5e:00:53:09"}
	stand.Plan.Zone = "ribera.test"
	var out strings.Builder
	for _, host := range []string{"contacts-host-1", "forecast-host-1", "dispatch-host-1", "gauge-node-1", "map-server-host-1"} {
		for i := range e.Sites {
			site := e.Sites[i].Name
			to, err := Relocate(stand.Plan, scenario(t), []Choice{{Instance: host, Site: site}}, nil)
			fmt.Fprintf(&out, "%s → %s\n", host, site)
			if err != nil {
				fmt.Fprintf(&out, "  %v\n", err)
				continue
			}
			to.Zone = stand.Plan.Zone
			for _, name := range []string{"contacts", "dispatch", "gauge"} {
				to.Steps = append(to.Steps, plan.Step{Op: op.Name, Naming: &plan.Naming{Name: name, Interface: name + "-port-1"}})
			}
			if r := to.Resource(host); i == 2 {
				plan.Respec(r, func(s *plan.InstanceSpec) { s.Class, s.Hostname = "mirrored", "elsewhere" })
			}
			for _, d := range Differences(stand, to, e, []string{"nobody", host}, change.Warm) {
				fmt.Fprintf(&out, "  %s: %s → %s", d.What, d.Here, d.There)
				if d.Weight != "" {
					fmt.Fprintf(&out, " (%s)", d.Weight)
				}
				if d.Why != "" {
					fmt.Fprintf(&out, ": %s", d.Why)
				}
				out.WriteByte('\n')
			}
		}
	}
	golden.Is(t, "testdata/differences.txt", out.String())
}

// played writes down the run-book and the curve of a move whenever something happens in it.
type played struct {
	t    *testing.T
	p    *plan.Plan
	s    *run.State
	load Load
	now  time.Time
	seq  int64
	last string
	out  strings.Builder
}

func (x *played) say(kind run.EventKind, step string, seconds int, attributes map[string]string) {
	x.now, x.seq = x.now.Add(time.Duration(seconds)*time.Second), x.seq+1
	e := run.Event{Seq: x.seq, At: x.now, Kind: kind, Step: step, Resource: resourceOf(x.p, step), Attributes: attributes}
	if kind == run.StepFailed {
		e.Text = "the disk is full"
	}
	x.s.Apply(e)
	x.look(fmt.Sprintf("%s %s", kind, step))
}

// look writes down what is otherwise than it was.
func (x *played) look(what string) {
	was := map[string]bool{}
	for _, line := range strings.Split(x.last, "\n") {
		was[line] = true
	}
	now := x.book()
	fmt.Fprintf(&x.out, "%s\n", what)
	for _, line := range strings.Split(now, "\n") {
		if !was[line] {
			fmt.Fprintf(&x.out, "  %s\n", line)
		}
	}
	x.last = now
}

func (x *played) book() string {
	var out strings.Builder
	for i, e := range Book(x.p, x.s, "contacts-host-1", x.now) {
		inner := map[bool]string{true: "· "}[e.Inner]
		waits := map[bool]string{true: " waits"}[e.Waits]
		fmt.Fprintf(&out, "%2d %s%s: %s%s, took %s of %s", i, inner, e.Title, e.Status, waits, e.Took.Round(time.Millisecond), e.Expected.Round(100*time.Millisecond))
		if e.Note != "" {
			fmt.Fprintf(&out, " (%s)", e.Note)
		}
		out.WriteByte('\n')
	}
	c := CurveOf(x.s, "contacts-host-1", x.load, x.now)
	low, high := c.Scale()
	fmt.Fprintf(&out, "curve: %s of %s, from %s to %s, pause %.3g s\n", c.Now.Round(100*time.Millisecond), c.Whole.Round(100*time.Millisecond), Bytes(low), Bytes(high), c.Pause)
	for _, s := range c.Stretches {
		fmt.Fprintf(&out, "   %s–%s: %s → %s %s\n", s.From.Round(100*time.Millisecond), s.To.Round(100*time.Millisecond), Bytes(s.Left), Bytes(s.Then), map[bool]string{true: "forecast"}[s.Forecast])
	}
	return strings.TrimSuffix(out.String(), "\n")
}

// disk tells of the copying of a disk.
func (x *played) disk(kind run.EventKind, step *plan.Step, seconds int, pairs ...any) {
	a := map[string]string{}
	for i := 0; i+1 < len(pairs); i += 2 {
		a[pairs[i].(string)] = fmt.Sprint(pairs[i+1])
	}
	x.say(kind, step.ID, seconds, a)
}

// copying tells of one round of all disks of a step, of which so many bytes are copied in so many seconds.
func (x *played) copying(step *plan.Step, round, bytes, seconds int) {
	for _, d := range step.Copying.Disks {
		x.disk(run.RoundBegun, step, 1, "disk", d.To, "round", round, "total", bytes, "done", 0, "at", 0, "epoch", "e1", "upto", round)
		x.disk(run.Copied, step, seconds, "disk", d.To, "bytes", bytes/2, "done", bytes/2, "at", bytes/2)
		x.disk(run.Copied, step, seconds, "disk", d.To, "bytes", bytes-bytes/2, "done", bytes, "at", bytes)
		if round == 1 {
			x.disk(run.Changed, step, 0, "disk", d.To, "bytes", 120_000)
		}
		x.disk(run.RoundDone, step, 0, "disk", d.To)
	}
}

// TestBooksOfEveryMode plays a move in each mode, with a copy that fails and is tried again, and writes down its run-book and its curve event by event.
func TestBooksOfEveryMode(t *testing.T) {
	for name, m := range map[string]change.Moving{
		"cold":   {Mode: change.Cold},
		"warm":   {Mode: change.Warm, Copying: plan.Copying{Await: true, Pause: 0.5}},
		"live":   {Mode: change.Live, Copying: plan.Copying{Pause: 0.5}},
		"linked": {Mode: change.Warm},
	} {
		t.Run(name, func(t *testing.T) {
			stand, e := standing(t), scenario(t)
			const host = "contacts-host-1"
			to, err := Relocate(stand.Plan, e, []Choice{{Instance: host, Site: "alisio-sur"}}, nil)
			require.NoError(t, err)
			m.Instances = []string{host}
			move, _, err := change.Move(stand, to, m, "move")
			require.NoError(t, err)
			x := &played{t: t, p: move, now: time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC), load: Load{Used: 5e9, Size: 1e10, Rate: 1e4, Bandwidth: 1e8, Squeeze: 1, Mode: m.Mode, Pause: m.Copying.Pause}}
			x.look("before there is a run")
			x.s = run.New(move)
			x.look("made")
			x.say(run.RunStarted, "", 1, nil)
			for i := range move.Steps {
				step := &move.Steps[i]
				x.say(run.StepStarted, step.ID, 1, nil)
				if step.Op == op.Replicate || step.Op == op.Finish {
					for _, d := range step.Copying.Disks {
						x.disk(run.Sized, step, 0, "disk", d.To, "total", 4_000_000)
					}
					x.copying(step, 1, 4_000_000, 20)
					x.say(run.StepFailed, step.ID, 1, nil)
					x.say(run.StepStarted, step.ID, 1, nil)
				}
				if step.Op == op.Follow {
					for round, pause := range []string{"30", "0.4"} {
						x.copying(step, round+2, 300_000/(round+1), 2)
						x.say(run.Judged, step.ID, 1, map[string]string{"round": fmt.Sprint(round + 2), "bytes": "150000", "changing": "50000", "bandwidth": "1000000", "pause": pause})
					}
				}
				x.say(run.StepDone, step.ID, 2, nil)
			}
			x.say(run.RunEnded, "", 1, nil)
			golden.Is(t, "testdata/book-"+name+".txt", x.out.String())
		})
	}
}
