package promise_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/promise"
)

func TestRecoveryThatCannotBeIsRefused(t *testing.T) {
	for _, c := range []struct {
		after string
		tries int
		says  string
	}{
		{"soon", 3, "after: "},
		{"9s", 3, "after: machines are down for between 10s and 1d"},
		{"25h", 3, "after: machines are down"},
		{"5m", 0, "tries: between 1 and 20"},
		{"5m", 21, "tries: between 1 and 20"},
	} {
		_, err := promise.Recovering(c.after, c.tries, false)
		assert.ErrorContains(t, err, c.says, "%+v", c)
	}
	got, err := promise.Recovering("10s", 20, true)
	require.NoError(t, err)
	p := promise.Promise{Deployment: 3, Kind: promise.Recovered, Recovered: got}
	require.NoError(t, p.Check(noon))
	assert.Equal(t, "raised again by itself after 10s down, 20 times a day at most, built again where it is gone", p.Words())
	assert.Empty(t, p.Dues(noon), "nothing is down")
	got.At = noon.Add(time.Minute)
	require.Len(t, p.Dues(noon), 1)
	assert.Equal(t, promise.DueRecover, p.Dues(noon)[0].Kind)
	assert.True(t, promise.Recovered.Conditional())
	assert.False(t, promise.Saved.Conditional())
}

// up, off, silent, gone and unknown are what may be seen of a machine.
var (
	up      = promise.Sight{Asked: true, Has: true, On: true, Tried: true, Answered: true}
	off     = promise.Sight{Asked: true, Has: true, Off: true, Tried: true}
	silent  = promise.Sight{Asked: true, Has: true, On: true, Tried: true}
	gone    = promise.Sight{Asked: true, Tried: true}
	unknown = promise.Sight{Tried: true}
	between = promise.Sight{Asked: true, Has: true}
)

func of(s promise.Sight, machine string, level int) promise.Sight {
	s.Machine, s.Level = machine, level
	return s
}

// TestWhatIsSeenOfAMachineSaysHowItFell holds what counts as down, how, and what is not known to be.
func TestWhatIsSeenOfAMachineSaysHowItFell(t *testing.T) {
	alone := promise.Sight{Asked: true, Has: true, On: true} // it is asked at nothing
	answers := promise.Sight{Tried: true, Answered: true}
	liar := promise.Sight{Asked: true, Tried: true, Answered: true}
	for name, c := range map[string]struct {
		seen promise.Sight
		how  promise.How
	}{"up": {up, ""}, "off": {off, promise.FellOff}, "silent": {silent, promise.FellSilent}, "gone": {gone, promise.FellGone}, "its site is silent": {unknown, ""},
		"on the way": {between, ""}, "it runs, and is asked at nothing": {alone, ""}, "its site is silent, and it answers": {answers, ""}, "its site denies it, and it answers": {liar, ""}} {
		terms := promise.RecoveredTerms{After: time.Minute, Tries: 1}
		changed := terms.Look([]promise.Sight{of(c.seen, "vm", 1)}, noon)
		assert.Equal(t, c.how != "", changed, name)
		if c.how == "" {
			assert.Empty(t, terms.Down, name)
			assert.Zero(t, terms.At, name)
			continue
		}
		require.Len(t, terms.Down, 1, name)
		assert.Equal(t, c.how, terms.Down[0].How, name)
		assert.Equal(t, noon.Add(time.Minute), terms.At, name)
	}
}

// TestWhatIsDownIsPickedOnceThatLasted follows one machine, and others that may be silent because of it.
func TestWhatIsDownIsPickedOnceThatLasted(t *testing.T) {
	terms := promise.RecoveredTerms{After: time.Minute, Tries: 2}
	see := func(after time.Duration, all ...promise.Sight) []string {
		terms.Look(all, noon.Add(after))
		var out []string
		for _, f := range terms.Picks(noon.Add(after)) {
			out = append(out, f.Machine+" "+string(f.How))
		}
		return out
	}
	assert.Empty(t, see(0, of(silent, "front", 3), of(off, "store", 1)))
	assert.Empty(t, see(59*time.Second, of(silent, "front", 3), of(off, "store", 1)))
	assert.Equal(t, []string{"store off"}, see(time.Minute, of(silent, "front", 3), of(off, "store", 1)), "what answers nobody may do so because of it")
	assert.Empty(t, see(time.Minute, of(silent, "front", 3), of(unknown, "store", 1)), "nothing is done about what is not seen, nor about what may hang on it")
	assert.Equal(t, []string{"front silent"}, see(61*time.Second, of(silent, "front", 3), of(up, "store", 1)))
	assert.Empty(t, see(3*time.Minute, of(silent, "front", 3), of(silent, "middle", 2), of(up, "store", 1)), "what front may hang on is down for no time yet")
	assert.Equal(t, []string{"middle silent"}, see(4*time.Minute, of(silent, "front", 3), of(silent, "middle", 2), of(up, "store", 1)))
}

// TestAPersonIsCalledWhenItDoesNotHelp counts tries within a day, and forgets them with it.
func TestAPersonIsCalledWhenItDoesNotHelp(t *testing.T) {
	terms := promise.RecoveredTerms{After: time.Minute, Tries: 2}
	down, well := []promise.Sight{of(off, "vm", 1)}, []promise.Sight{of(up, "vm", 1)}
	terms.Look(down, noon)
	require.NoError(t, terms.Try(noon.Add(time.Minute)))
	terms.Look(down, noon.Add(2*time.Minute+time.Second))
	assert.Equal(t, noon.Add(3*time.Minute+time.Second), terms.At, "as long after the last try")
	require.NoError(t, terms.Try(noon.Add(3*time.Minute)))
	err := terms.Try(noon.Add(5 * time.Minute))
	assert.ErrorIs(t, err, promise.ErrCalled)
	assert.ErrorContains(t, err, "2 times within a day")
	terms.Look(down, noon.Add(10*time.Minute))
	assert.Zero(t, terms.At, "a person was called")
	assert.Equal(t, noon.Add(5*time.Minute), terms.Called)
	terms.Look(well, noon.Add(time.Hour))
	assert.Zero(t, terms.Called)
	terms.Look(down, noon.Add(2*time.Hour))
	assert.ErrorIs(t, terms.Try(noon.Add(2*time.Hour)), promise.ErrCalled, "the day is not over")
	terms.Look(well, noon.Add(3*time.Hour))
	assert.NoError(t, terms.Try(noon.Add(24*time.Hour+time.Minute)), "the first is forgotten")
}

// TestNothingIsDoneByItselfThatNobodySaw looks at machines of all sorts again and again, and acts when something is due: whatever is seen, nothing is done
// about what was well or unknown at that moment, nor before it was down for long enough, nor more often than is said.
func TestNothingIsDoneByItselfThatNobodySaw(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		terms := promise.RecoveredTerms{After: time.Duration(rapid.IntRange(10, 300).Draw(t, "after")) * time.Second, Tries: rapid.IntRange(1, 3).Draw(t, "tries")}
		kinds := []promise.Sight{up, up, off, silent, gone, unknown, between}
		now, downSince, acts := noon, map[string]time.Time{}, []time.Time{}
		for range rapid.IntRange(1, 60).Draw(t, "looks") {
			now = now.Add(time.Duration(rapid.IntRange(1, 400).Draw(t, "pause")) * time.Second)
			var all []promise.Sight
			seen := map[string]promise.Sight{}
			for i := range 3 {
				s := of(rapid.SampledFrom(kinds).Draw(t, "seen"), fmt.Sprint("vm-", i), i)
				all, seen[s.Machine] = append(all, s), s
				switch {
				case s.Answered:
					delete(downSince, s.Machine)
				case s.Asked && (!s.Has || s.Off || s.On) && downSince[s.Machine].IsZero():
					downSince[s.Machine] = now
				}
			}
			due := !terms.At.IsZero() && !terms.At.After(now)
			terms.Look(all, now)
			assert.Equal(t, len(downSince), len(terms.Down))
			if len(terms.Down) > 0 && terms.Called.IsZero() {
				assert.False(t, terms.At.IsZero(), "what is down is seen to, or a person is called")
				assert.True(t, terms.At.After(now.Add(-2*time.Minute)), "it is due, or was just now")
			}
			if !due {
				continue
			}
			picks := terms.Picks(now)
			for _, f := range picks {
				s := seen[f.Machine]
				assert.True(t, s.Asked && !s.Answered, "%s was seen to be down just now: %+v", f.Machine, s)
				assert.False(t, now.Before(downSince[f.Machine].Add(terms.After)), "for long enough")
				assert.False(t, f.How == promise.FellSilent && seen["vm-0"].Off, "what it stands on comes first")
			}
			if len(picks) > 0 && terms.Try(now) == nil {
				acts = append(acts, now)
			}
			terms.At = time.Time{}
		}
		for i := range acts {
			if k := i + terms.Tries; k < len(acts) {
				assert.False(t, acts[k].Before(acts[i].Add(promise.TriesWithin)), "no more often than is said")
			}
		}
	})
}
