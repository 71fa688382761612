package migrate

import (
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// drawnLoad is any load.
func drawnLoad(t *rapid.T) Load {
	return Load{Used: rapid.SampledFrom([]int64{1e6, 3e8, 1e10}).Draw(t, "used"), Size: 2e10, Rate: rapid.SampledFrom([]float64{0, 1e4, 1e6, 2e7, 2e8}).Draw(t, "rate"), Set: rapid.SampledFrom([]int64{0, 1e6, 1e9}).Draw(t, "set"),
		Bandwidth: rapid.SampledFrom([]float64{1e6, 5e7, 1e9}).Draw(t, "bandwidth"), Squeeze: rapid.SampledFrom([]float64{0, 0.4, 0.95, 1}).Draw(t, "squeeze"), Mode: rapid.SampledFrom([]change.Mode{change.Cold, change.Warm, change.Live}).Draw(t, "mode"),
		Pause: rapid.SampledFrom([]float64{0, 0.5, 30}).Draw(t, "pause"), Stop: 3, Start: 5, Consolidate: rapid.Bool().Draw(t, "consolidate"), Merge: rapid.SampledFrom([]float64{0, 5e8}).Draw(t, "merge")}
}

// TestWhatIsForetoldAddsUp holds forecasts against what they are made of: each round copies what changed in the one before, all of it takes as long as its parts, and it stands still for
// no longer than it may, or says that it does.
func TestWhatIsForetoldAddsUp(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		l := drawnLoad(t)
		f := Predict(l)
		through, per := l.Bandwidth, 0.0
		if l.Squeeze > 0 && l.Squeeze < 0.95 {
			require.True(t, f.Pays)
			through /= l.Squeeze
		} else {
			require.False(t, f.Pays)
		}
		if l.Consolidate && l.Merge > 0 {
			per = 1 / l.Merge
		}
		whole := float64(l.Used) / through
		require.InDelta(t, f.Copy+f.Down, f.Total, 1e-6*f.Total)
		require.InDelta(t, f.Last.Seconds+l.Stop+l.Start, f.Down, 1e-6*f.Down)
		if l.Mode == change.Cold {
			require.Empty(t, f.Rounds)
			require.True(t, f.Converges)
			require.Equal(t, []any{l.Used, 1, 0.0, 0.0}, []any{f.Last.Bytes, f.Layers, f.Copy, f.Merging})
			require.InDelta(t, whole, f.Last.Seconds, 1e-6*whole)
			return
		}
		require.Equal(t, l.Used, f.Rounds[0].Bytes)
		require.InDelta(t, whole, f.Rounds[0].Seconds, 1e-6*whole)
		copied, merged := 0.0, 0.0
		for i, r := range f.Rounds {
			copied += r.Seconds
			if i == 0 {
				continue
			}
			before := f.Rounds[i-1].Seconds
			require.InDelta(t, writes(l, before), float64(r.Bytes), 2+1e-6*float64(r.Bytes), "round %d copies what changed in the one before", i)
			require.InDelta(t, math.Max(float64(r.Bytes)*(1/through+per), 0.25), r.Seconds, 1e-6+1e-3*r.Seconds)
			merged += float64(r.Bytes) * per
		}
		last := f.Rounds[len(f.Rounds)-1]
		require.InDelta(t, writes(l, last.Seconds), float64(f.Last.Bytes), 2+1e-6*float64(f.Last.Bytes))
		require.InDelta(t, float64(f.Last.Bytes)*(1/through+per), f.Last.Seconds, 1e-5+1e-3*f.Last.Seconds)
		require.InDelta(t, copied, f.Copy, 1e-6*copied)
		require.InDelta(t, merged+float64(f.Last.Bytes)*per, f.Merging, 1e-3+1e-3*f.Merging)
		if layers := len(f.Rounds) + 1; l.Consolidate {
			require.Equal(t, 1, f.Layers)
		} else {
			require.Equal(t, layers, f.Layers)
		}
		if l.Pause > 0 && f.Last.Seconds > l.Pause {
			require.False(t, f.Converges, "it would stand still for longer than it may")
		}
		if len(f.Rounds) < maxRounds && f.Last.Seconds > math.Max(l.Pause, 0.25)+1e-6 { // it was given up since the next leaves hardly less
			next := writes(l, math.Max(f.Last.Seconds, 0.25))
			require.GreaterOrEqual(t, next, worthwhile*float64(f.Last.Bytes)-2)
		}
	})
	assert.Equal(t, Forecast{Pays: true}, Predict(Load{Used: 5, Squeeze: 0.5}), "nothing is foretold of what gets nothing through")
}

// writes is how many bytes are otherwise after some seconds.
func writes(l Load, seconds float64) float64 {
	out := l.Rate * seconds
	if l.Set > 0 {
		out = float64(l.Set) * (1 - math.Exp(-out/float64(l.Set)))
	}
	return math.Min(out, float64(l.Size))
}

// TestWorkIsLaidIntoWindowsMinuteByMinute works out by walking through time when work ends, in how many windows, and how full the last is then.
func TestWorkIsLaidIntoWindowsMinuteByMinute(t *testing.T) {
	zero := time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC)
	minute := func(n int) time.Time { return zero.Add(time.Duration(n) * time.Minute) }
	rapid.Check(t, func(t *rapid.T) {
		var windows []plan.Window
		at := 0
		for range rapid.IntRange(0, 4).Draw(t, "windows") {
			from := at + rapid.IntRange(0, 90).Draw(t, "gap")
			at = from + rapid.IntRange(1, 60).Draw(t, "long")
			windows = append(windows, plan.Window{From: minute(from), To: minute(at)})
		}
		now, need := rapid.IntRange(0, 200).Draw(t, "now"), rapid.IntRange(1, 120).Draw(t, "minutes")
		got := FitInto(windows, minute(now), float64(need*60))
		if len(windows) == 0 {
			require.Equal(t, Fit{Begin: minute(now), End: minute(now + need)}, got)
			return
		}
		var want Fit
		left, in := need, -1
		for m := now; m < 1000 && left > 0; m++ {
			for i, w := range windows {
				if minute(m).Before(w.From) || !minute(m).Before(w.To) {
					continue
				}
				if want.Begin.IsZero() {
					want.Begin = minute(m)
				}
				if i != in {
					in, want.Windows = i, want.Windows+1
				}
				if left--; left == 0 {
					want.End = minute(m + 1)
					want.Share = float64(want.End.Sub(w.From)) / float64(w.To.Sub(w.From))
				}
			}
		}
		require.InDelta(t, want.Share, got.Share, 1e-9)
		want.Share, got.Share = 0, 0
		require.Equal(t, want, got)
	})
}

// TestThePhasesOfAMoveInEveryMode plays moves step by step in the order of their plans: phases follow one another, none comes back, and the curve is never out of its bounds.
func TestThePhasesOfAMoveInEveryMode(t *testing.T) {
	order := map[Phase]int{Waiting: 0, Preparing: 1, Copying: 2, Following: 3, Ready: 4, Cutting: 5, There: 6}
	for mode, want := range map[change.Mode][]Phase{change.Warm: {Waiting, Preparing, Copying, Following, Ready, Cutting, There}, change.Live: {Waiting, Preparing, Copying, Following, Ready, Cutting, There}, change.Cold: {Waiting, Preparing, Cutting, There}} {
		stand, e := standing(t), scenario(t)
		const host = "contacts-host-1"
		to, err := Relocate(stand.Plan, e, []Choice{{Instance: host, Site: "alisio-sur"}}, nil)
		require.NoError(t, err)
		move, _, err := change.Move(stand, to, change.Moving{Instances: []string{host}, Mode: mode, Copying: plan.Copying{Await: true, Pause: 0.5}}, "move")
		require.NoError(t, err)
		now := time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC)
		s := run.New(move)
		seq := int64(0)
		load := Load{Used: 5e9, Size: 1e10, Rate: 1e6, Bandwidth: 1e8, Squeeze: 1, Mode: mode}
		var seen []Phase
		look := func() {
			p := PhaseOf(s, host)
			if len(seen) == 0 || seen[len(seen)-1] != p {
				if len(seen) > 0 {
					assert.Greater(t, order[p], order[seen[len(seen)-1]], "%s: %s after %s", mode, p, seen[len(seen)-1])
				}
				seen = append(seen, p)
			}
			at := now.Add(time.Duration(seq) * time.Second)
			c := CurveOf(s, host, load, at)
			for _, x := range c.Stretches {
				assert.LessOrEqual(t, x.Left, c.Most, mode)
				assert.LessOrEqual(t, x.To, c.Whole, mode)
				assert.LessOrEqual(t, x.From, x.To, mode)
				assert.LessOrEqual(t, x.Then, x.Left, mode)
			}
			for _, entry := range Book(move, s, host, at) {
				assert.NotEmpty(t, entry.Title)
			}
		}
		say := func(kind run.EventKind, step string, attributes map[string]string) {
			seq++
			s.Apply(run.Event{Seq: seq, At: now.Add(time.Duration(seq) * time.Second), Kind: kind, Step: step, Resource: resourceOf(move, step), Attributes: attributes})
			look()
		}
		look()
		say(run.RunStarted, "", nil)
		for i := range move.Steps {
			step := &move.Steps[i]
			say(run.StepStarted, step.ID, nil)
			if step.Op == op.Follow {
				for round, pause := range []string{"30", "2", "0.4"} {
					say(run.Judged, step.ID, map[string]string{"round": fmt.Sprint(round + 1), "bytes": "1000", "changing": "50", "bandwidth": "1000", "pause": pause})
					assert.Equal(t, pause == "0.4", IsReady(s, host), "%s s", pause)
				}
			}
			say(run.StepDone, step.ID, nil)
		}
		say(run.RunEnded, "", nil)
		assert.Equal(t, want, seen, mode)
	}
}
