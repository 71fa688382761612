package engine_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/sandbox"
	"andamio/internal/service/templates"
	"andamio/internal/site"
)

// raised is a stage on which the scenario stands.
func raised(t *testing.T) *stage {
	t.Helper()
	s := newStage(t)
	wanted := plantest.Plan(t, "drill")
	s.stand = change.Nothing(wanted)
	s.does(wanted)
	return s
}

// pairs makes two sites known to each other, so that each takes disks from the other; moves are started at a, and at b if both may.
func (s *stage) pairs(a, b string, both bool) {
	s.Helper()
	for _, x := range [][2]string{{a, b}, {b, a}} {
		from, ok := site.Can[site.Pairer](s.Context(), s.sites[x[0]])
		require.True(s, ok)
		to, ok := site.Can[site.Pairer](s.Context(), s.sites[x[1]])
		require.True(s, ok)
		self, err := from.Self(s.Context())
		require.NoError(s, err)
		self.MayStart = both || x[0] == a
		require.NoError(s, to.Pair(s.Context(), self))
	}
}

// says runs a script on an instance, and returns what it printed.
func (s *stage) says(instance, script string) string {
	s.Helper()
	p, err := change.Do(s.stand, change.Doing{Name: "look", Path: "look.sh", Text: script + "\n", Instances: []string{instance}}, "look")
	require.NoError(s, err)
	return printedBy(s.does(p).Step(op.Do.For(instance, "look")))
}

// printedBy is what a step said.
func printedBy(st *run.Step) string {
	var lines []string
	for _, l := range st.Log {
		lines = append(lines, l.Text)
	}
	return strings.Join(lines, "\n")
}

const register = "contacts-host-1"

// moving is a move of the register of people to another site: the plan, where it leads to, and the request.
func (s *stage) moving(to string, m change.Moving) (move, whole *plan.Plan, _ change.Moving) {
	s.Helper()
	e, err := templates.DemoEstate()
	require.NoError(s, err)
	there, err := migrate.Relocate(s.stand.Plan, e, []migrate.Choice{{Instance: register, Site: to}}, nil)
	require.NoError(s, err)
	m.Instances = []string{register}
	move, whole, err = change.Move(s.stand, there, m, "move "+string(m.Mode))
	require.NoError(s, err)
	return move, whole, m
}

const kept = "/var/lib/contacts/note"

// TestTheEngineMovesAWorkload moves the register of people in each mode and back again, or goes back: what was on its disk is there each time, the sites hold nothing twice in the end, and who is served notices nothing but the
// pause.
func TestTheEngineMovesAWorkload(t *testing.T) {
	t.Parallel()
	s := raised(t)
	s.pairs("vega", "alisio-sur", true)
	pages, before := s.pages(), s.held("compute")
	s.says(register, "echo high water at 2.10 >"+kept)
	for _, m := range []change.Moving{
		{Mode: change.Cold, Copying: plan.Copying{Compress: "on"}},
		{Mode: change.Warm, Copying: plan.Copying{Grant: true, Consolidate: true}},
		{Mode: change.Live, Copying: plan.Copying{Limit: 1 << 30, Compress: "off"}},
	} {
		was := s.stand.Plan
		move, _, m := s.moving("alisio-sur", m)
		state := s.does(move)
		assert.Equal(t, before+1, s.held("compute"), "what was left is kept until the move is committed")
		assert.Equal(t, pages, s.pages())
		assert.Equal(t, "high water at 2.10", s.says(register, "cat "+kept))
		for id, d := range state.Disks {
			assert.Equal(t, d.Total, d.Done, id)
			assert.False(t, d.Running, id)
			assert.Positive(t, d.Bytes, id)
		}
		s.says(register, "echo low water at 0.40 >>"+kept)
		back, err := change.Back(s.stand, was, move, m, "back")
		require.NoError(t, err)
		s.does(back)
		assert.Equal(t, before, s.held("compute"))
		assert.Equal(t, "high water at 2.10\nlow water at 0.40", s.says(register, "cat "+kept), "what was written there came back")
		assert.Equal(t, pages, s.pages())
		s.says(register, "echo high water at 2.10 >"+kept)

		move, whole, _ := s.moving("alisio-sur", m)
		s.does(move)
		s.to(migrate.WithoutKept(whole, move.Renames), "commit")
		assert.Equal(t, before, s.held("compute"))
		assert.Equal(t, "alisio-sur", s.stand.Plan.Resource(register).Site)
		move, whole, _ = s.moving("vega", m)
		s.does(move)
		s.to(migrate.WithoutKept(whole, move.Renames), "commit")
		assert.Equal(t, "high water at 2.10", s.says(register, "cat "+kept))
		assert.Equal(t, pages, s.pages())
		assert.Empty(t, s.refused(), "all was asked for when it could be done")
	}
	s.to(change.Nothing(s.stand.Plan).Plan, "retire")
	assert.Empty(t, s.box.Holds())
	assert.Empty(t, s.refused())
}

// TestAMoveIsSteered holds copying while it is told to, follows what is written until it is told to cut over, and copies in a window only.
func TestAMoveIsSteered(t *testing.T) {
	t.Parallel()
	s := raised(t)
	s.pairs("alisio-sur", "vega", false)
	opens := time.Now().Add(700 * time.Millisecond)
	move, _, _ := s.moving("alisio-sur", change.Moving{Mode: change.Warm, Copying: plan.Copying{Await: true, Pause: 30, Limit: 1 << 20, Windows: []plan.Window{
		{From: opens.Add(-time.Hour), To: opens.Add(-time.Minute)}, {From: opens, To: opens.Add(time.Hour)}}}})
	copies, follows := "", ""
	for i := range move.Steps {
		switch move.Steps[i].Op {
		case op.Replicate:
			copies = move.Steps[i].ID
		case op.Follow:
			follows = move.Steps[i].ID
		}
	}
	decisions := make(chan engine.Decision, 16)
	say := func(step, verb string) { decisions <- engine.Decision{Step: step, Verb: verb} }
	var first, copied time.Time
	judged, pausedAt, told := 0, 0, []string{}
	s.decisions = decisions
	s.heard = func(x run.Event) {
		switch {
		case x.Kind == run.RoundBegun && first.IsZero():
			first = time.Now()
			say(copies, run.LimitTo+"0")
			say(copies, run.Pause)
			time.AfterFunc(300*time.Millisecond, func() { say(copies, run.GoOn) })
		case x.Kind == run.Copied && copied.IsZero():
			copied = time.Now()
		case x.Kind == run.Judged:
			if judged++; judged == 3 {
				pausedAt = judged
				say(follows, run.CutOver)
			}
		case x.Kind == run.Decided:
			told = append(told, x.Text)
		}
	}
	state := s.does(move)
	assert.GreaterOrEqual(t, judged, 3, "rounds went on until it was said")
	assert.Equal(t, 3, pausedAt)
	assert.Subset(t, told, []string{run.Pause, run.GoOn, run.LimitTo + "0", run.CutOver})
	assert.NotEmpty(t, state.Disks)
	assert.False(t, copied.Before(opens), "nothing was copied before the window opened")
}

// TestAWindowThatIsOverEndsACopy says of a copy whose last window is over what can be done.
func TestAWindowThatIsOverEndsACopy(t *testing.T) {
	t.Parallel()
	s := raised(t)
	s.pairs("alisio-sur", "vega", false)
	over := time.Now().Add(-time.Minute)
	move, _, _ := s.moving("alisio-sur", change.Moving{Mode: change.Cold, Copying: plan.Copying{Windows: []plan.Window{{From: over.Add(-time.Hour), To: over}}}})
	state, err := s.tries(move, nil)
	require.ErrorIs(t, err, engine.ErrUnfinished)
	found := false
	for i := range state.Steps {
		if st := &state.Steps[i]; st.Status == run.Failed {
			found = true
			assert.Contains(t, st.Error, "the last window in which may be copied is over: give it another, or lift it")
		}
	}
	assert.True(t, found)
}

// TestSitesMisbehaveAndTheEngineDoesAWholeLifeAllTheSame raises, stops, starts, moves and retires over sites that lose answers, say what is not so, build what is broken and build things twice: in the end there is what was asked for,
// once, and then nothing.
func TestSitesMisbehaveAndTheEngineDoesAWholeLifeAllTheSame(t *testing.T) {
	t.Parallel()
	s := newStage(t)
	s.opens(time.Second)
	s.pairs("alisio-sur", "vega", false)
	s.patience.Tries = 12
	troubles := sandbox.Troubles(0.06)
	for i := range troubles {
		if r := &troubles[i]; r.Call == "create" && (r.Fault == sandbox.Broken || r.Fault == sandbox.Phantom) {
			r.Share = 0.01 // what is broken or not there is built anew three times, and then a person is asked
		}
	}
	s.box.Misbehave(troubles...)
	wanted := plantest.Plan(t, "drill")
	s.stand = change.Nothing(wanted)
	s.does(wanted)
	first := len(s.box.Holds())
	pages := s.pages()
	s.to(change.Rest(wanted, func(*plan.Resource) bool { return true }), "stop")
	s.to(wanted, "start")
	move, whole, _ := s.moving("alisio-sur", change.Moving{Mode: change.Cold})
	s.does(move)
	s.to(migrate.WithoutKept(whole, move.Renames), "commit")
	assert.Equal(t, pages, s.pages())
	assert.InDelta(t, first, len(s.box.Holds()), 2, "networks and pools of the other site")
	s.to(change.Nothing(s.stand.Plan).Plan, "retire")
	assert.Empty(t, s.box.Holds())
}

// TestARunBreaksOffAnywhereAndGoesOn breaks a run off each time that so many things were asked for or done and goes on with what the journal has, as often as it takes: all stands in the end and nothing is there twice, though answers were lost when it broke off.
func TestARunBreaksOffAnywhereAndGoesOn(t *testing.T) {
	t.Parallel()
	wanted := plantest.Plan(t, "drill")
	whole := newStage(t)
	whole.stand = change.Nothing(wanted)
	whole.does(wanted)
	want := whole.census()
	for _, each := range []int{3, 10, 31} {
		t.Run(fmt.Sprint("each ", each), func(t *testing.T) {
			t.Parallel()
			s := newStage(t)
			s.stand = change.Nothing(wanted)
			j := &journal{}
			broken := 0
			for range 100 {
				ctx, cancel := context.WithCancel(t.Context())
				came := 0
				j.heard = func(e run.Event) {
					if e.Kind == run.StepDone || e.Kind == run.StepAsked {
						if came++; came == each {
							cancel()
						}
					}
				}
				e := s.engineOf(wanted, j)
				if len(j.events) > 0 {
					e.State = run.New(wanted)
					for _, x := range j.events {
						e.State.Apply(x)
					}
				}
				err := e.Execute(ctx)
				cancel()
				if err == nil {
					break
				}
				require.ErrorIs(t, err, engine.ErrUnfinished)
				broken++
			}
			assert.Positive(t, broken)
			state := run.New(wanted)
			for _, x := range j.events {
				state.Apply(x)
			}
			require.Equal(t, run.Standing, state.Status)
			assert.Equal(t, want, s.census())
		})
	}
}

// census is how many things the stand-ins hold of each kind at each site.
func (s *stage) census() map[string]int {
	out := map[string]int{}
	for _, h := range s.box.Holds() {
		out[h.Site+" "+h.Term]++
	}
	return out
}
