package engine

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/golden"
)

// story is one of copying a disk: how it is to be done, and what happens meanwhile.
type story struct {
	name  string
	ops   []op.Op
	terms plan.Copying
	had   []run.Event // what the journal has of a run that broke off
	speed float64     // bytes a second that get through
	large bool        // it has much, and changes much
	while func(*telling)
}

// telling is a story that goes on, in time that is simulated.
type telling struct {
	*copying
	t         *testing.T
	decisions chan Decision
	stop      chan struct{}
}

// says has somebody decide of the step, so long after it began.
func (x *telling) says(after time.Duration, step, verb string) {
	go func() {
		if x.waits(after) {
			x.decisions <- Decision{Step: step, Verb: verb}
		}
	}()
}

// writes has the workload write so many pages from a place on, again and again, so often in all.
func (x *telling) writes(every time.Duration, times, pages int, at int64) {
	go func() {
		for n := range times {
			if !x.waits(every) {
				return
			}
			for i := range pages {
				x.put(x.t, at+int64(i)*(1<<16), byte(n+i+1))
			}
		}
	}()
}

// overwrites has it write so many bytes at once.
func (x *telling) overwrites(every time.Duration, times, bytes int) {
	go func() {
		for n := range times {
			if !x.waits(every) {
				return
			}
			_, err := x.from.disks["here"].WriteAt(slices.Repeat([]byte{byte(n + 1)}, bytes), 1<<20)
			require.NoError(x.t, err)
		}
	}()
}

// waits waits, unless the story is over.
func (x *telling) waits(d time.Duration) bool {
	select {
	case <-time.After(d):
		return true
	case <-x.stop:
		return false
	}
}

// window is one that opens and closes so long after the year 2000, when simulated time begins.
func window(from, to time.Duration) plan.Window {
	begin := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
	return plan.Window{From: begin.Add(from), To: begin.Add(to)}
}

// stories are of each way in which copying may go.
func stories() []story {
	busy := func(x *telling) { x.writes(300*time.Millisecond, 200, 60, 0) }
	much := func(x *telling) { x.overwrites(500*time.Millisecond, 60, 3<<20) }
	const follow, finish = "host/follow", "host/finish"
	all := []op.Op{op.Replicate, op.Follow, op.Finish}
	return []story{
		{"all at once", all, plan.Copying{}, nil, 0, false, nil},
		{"slowly", all, plan.Copying{}, nil, 1e6, false, nil},
		{"slowly, and busy", all, plan.Copying{}, nil, 1e6, false, busy},
		{"with a bound on its pause", all, plan.Copying{Pause: 2}, nil, 1e6, false, busy},
		{"with a bound that never holds", all, plan.Copying{Pause: 0.001}, nil, 3e5, false, busy},
		{"until somebody says so", all, plan.Copying{Await: true, Pause: 30}, nil, 1e6, false, func(x *telling) { busy(x); x.says(50*time.Second, follow, run.CutOver) }},
		{"until somebody says so, long ago", all, plan.Copying{Await: true}, nil, 1e6, false, func(x *telling) { x.says(time.Second, "host/replicate", run.CutOver) }},
		{"with a limit", all, plan.Copying{Limit: 1 << 20}, nil, 1e6, false, busy},
		{"with a limit that is lifted", all, plan.Copying{Limit: 1 << 17}, nil, 1e6, false, func(x *telling) {
			x.says(3*time.Second, "host/replicate", run.LimitTo+"0")
			x.says(4*time.Second, "host/replicate", run.LimitTo+"524288")
		}},
		{"paused", all, plan.Copying{}, nil, 1e6, false, func(x *telling) {
			x.says(500*time.Millisecond, "host/replicate", run.Pause)
			x.says(20*time.Second, "host/replicate", run.GoOn)
		}},
		{"paused in the end", []op.Op{op.Finish}, plan.Copying{}, firstDone("e1", "1"), 1e6, false, func(x *telling) {
			x.says(100*time.Millisecond, finish, run.Pause)
			x.says(9*time.Second, finish, run.GoOn)
		}},
		{"in windows", all, plan.Copying{Windows: []plan.Window{window(5*time.Second, 6*time.Second), window(30*time.Second, time.Hour)}}, nil, 1e6, false, busy},
		{"in windows that are over", all, plan.Copying{Windows: []plan.Window{window(time.Second, 2*time.Second)}}, nil, 1e6, false, nil},
		{"compressed", all, plan.Copying{Compress: "on"}, nil, 1e6, false, busy},
		{"not compressed", all, plan.Copying{Compress: "off"}, nil, 1e6, false, busy},
		{"made one", all, plan.Copying{Consolidate: true}, nil, 1e6, false, busy},
		{"back", []op.Op{op.Finish}, plan.Copying{Back: true}, nil, 1e6, false, busy},
		{"renewed", []op.Op{op.Renew}, plan.Copying{}, nil, 1e6, false, nil},
		{"gone on with", all, plan.Copying{}, []run.Event{{Kind: run.RunStarted}, {Kind: run.StepStarted, Step: "host/replicate"},
			{Kind: run.RoundBegun, Step: "host/replicate", Resource: "host", Attributes: map[string]string{"disk": "host", "round": "1", "epoch": "e1", "upto": "12", "total": "1200000"}},
			{Kind: run.Copied, Step: "host/replicate", Resource: "host", Attributes: map[string]string{"disk": "host", "bytes": "400000", "done": "400000", "at": "3145728", "took": "2"}}}, 1e6, false, busy},
		{"its notes are lost", []op.Op{op.Follow, op.Finish}, plan.Copying{}, firstDone("before", "7"), 1e6, false, busy},
		{"granted", all, plan.Copying{Grant: true}, nil, 0, false, nil},
		{"much", all, plan.Copying{Consolidate: true}, nil, 2e7, true, much},
		{"much, with a bound on its pause", all, plan.Copying{Pause: 0.5}, nil, 2e7, true, much},
		{"much, with a bound that never holds", all, plan.Copying{Pause: 0.01}, nil, 1e7, true, much},
		{"much, until somebody says so", all, plan.Copying{Await: true, Pause: 30}, nil, 2e7, true, func(x *telling) { much(x); x.says(20*time.Second, follow, run.CutOver) }},
		{"much, with a limit", all, plan.Copying{Limit: 8 << 20}, nil, 2e7, true, func(x *telling) { much(x); x.says(2*time.Second, "host/replicate", run.LimitTo+"2097152") }},
		{"much, gone on with", all, plan.Copying{}, []run.Event{{Kind: run.RunStarted}, {Kind: run.StepStarted, Step: "host/replicate"},
			{Kind: run.RoundBegun, Step: "host/replicate", Resource: "host", Attributes: map[string]string{"disk": "host", "round": "1", "epoch": "e1", "upto": "12", "total": "41943040"}},
			{Kind: run.Copied, Step: "host/replicate", Resource: "host", Attributes: map[string]string{"disk": "host", "bytes": "8388608", "done": "8388608", "at": "8388608", "took": "2"}}}, 1e7, true, much},
	}
}

// told is a story from its journal and the orders that were given.
func (s *story) told(t *testing.T) string {
	var out strings.Builder
	c := copyingFor(t, s.ops, s.terms, s.had...)
	x := &telling{c, t, make(chan Decision, 8), make(chan struct{})}
	c.to.speed, c.e.Decisions = s.speed, x.decisions
	for range 12 { // it has been written and looked at before
		c.put(t, 0, 1)
		c.from.disks["here"].Changes(0)
	}
	for i := range int64(300) {
		c.put(t, i*(1<<16), byte(i+1))
	}
	if s.large {
		_, err := c.from.disks["here"].WriteAt(slices.Repeat([]byte{7}, 40<<20), 0)
		require.NoError(t, err)
	}
	if s.while != nil {
		s.while(x)
	}
	begun := time.Now()
	err := c.e.Execute(t.Context())
	close(x.stop)
	synctest.Wait()
	for _, e := range c.m.events {
		fmt.Fprintf(&out, "  %s %s %s %s", e.At.Sub(begun).Round(time.Millisecond), e.Kind, e.Step, e.Text)
		for _, name := range slices.Sorted(maps.Keys(e.Attributes)) {
			if v := e.Attributes[name]; !strings.HasPrefix(v, "2000-") { // the moment, which is told before
				fmt.Fprintf(&out, " %s=%s", name, v)
			}
		}
		out.WriteByte('\n')
	}
	for _, o := range c.to.orders {
		fmt.Fprintf(&out, "  order %s of %d: %v, empty %v, limit %d, compress %v, round %d\n", o.Disk, len(o.Written), ends(o.Written), ends(o.Zero), o.Limit, o.Compress, o.Round)
	}
	fmt.Fprintf(&out, "  granted %v, made one %v, %d layers: %v\n", c.from.granted, c.to.consolidated, c.to.disks["there"].Layers(), err)
	return out.String()
}

// TestStoriesOfCopying writes down how copying goes, to the millisecond: in every way in which it may be asked for, steered, disturbed and bounded. Time is simulated.
func TestStoriesOfCopying(t *testing.T) {
	var out strings.Builder
	for _, s := range stories() {
		synctest.Test(t, func(t *testing.T) { fmt.Fprintf(&out, "== %s\n%s", s.name, s.told(t)) })
	}
	golden.Is(t, "testdata/stories.txt", out.String())
	require.NotEmpty(t, out.String())
}

// ends are the first and the last of some parts of a disk.
func ends[T any](all []T) []T {
	if len(all) < 3 {
		return all
	}
	return []T{all[0], all[len(all)-1]}
}
