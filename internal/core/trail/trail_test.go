package trail

import (
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/guard"
)

// written is a trail of so many entries.
func written(n int) []Entry {
	var out []Entry
	var last Entry
	for i := range n {
		e := Entry{At: time.Unix(1_700_000_000+int64(i), 5).In(time.FixedZone("here", 3600)), Actor: guard.Actor{Name: "ana", Way: guard.Screen},
			Act: guard.BeginRun, On: fmt.Sprintf("run %d", i), Plan: "abc", Run: int64(i), Note: "raise of level-log"}
		last = e.After(last)
		out = append(out, last)
	}
	return out
}

func verified(list []Entry, ever int64, expect string) []Wrong {
	v := Verifier{Expect: expect}
	for _, e := range list {
		v.Next(e)
	}
	v.End(ever)
	return v.Wrong
}

func TestAWholeTrailIsWhole(t *testing.T) {
	all := written(7)
	assert.Empty(t, verified(all, 7, ""))
	assert.Empty(t, verified(all, 7, all[3].Digest))
	assert.Empty(t, verified(nil, 0, ""))
	assert.Empty(t, all[0].Before)
	assert.EqualValues(t, 1, all[0].Seq)
	var read []Entry
	text, err := json.Marshal(all)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &read))
	assert.Empty(t, verified(read, 7, ""), "as it is exported it can be verified by others")
}

// TestWhateverIsDoneToATrailIsFound changes a field of an entry, or takes out, puts in or exchanges entries.
func TestWhateverIsDoneToATrailIsFound(t *testing.T) {
	changes := []func(*Entry){
		func(e *Entry) { e.At = e.At.Add(time.Nanosecond) }, func(e *Entry) { e.Name = "eva" }, func(e *Entry) { e.Way = guard.Command },
		func(e *Entry) { e.Act = guard.CancelRun }, func(e *Entry) { e.On += "x" }, func(e *Entry) { e.Plan = "" }, func(e *Entry) { e.Run++ },
		func(e *Entry) { e.Note = "" }, func(e *Entry) { e.Failed = "never" }, func(e *Entry) { e.Before = "" + e.Digest }, func(e *Entry) { e.Digest = "0" + e.Digest[1:] + "x" },
		func(e *Entry) { e.Seq += 1000 },
	}
	rapid.Check(t, func(t *rapid.T) {
		all := written(rapid.IntRange(2, 12).Draw(t, "entries"))
		n := int64(len(all))
		at := rapid.IntRange(0, len(all)-1).Draw(t, "at")
		switch rapid.IntRange(0, 5).Draw(t, "how") {
		case 0:
			changes[rapid.IntRange(0, len(changes)-1).Draw(t, "field")](&all[at])
		case 1: // and the digest made to fit: the next one does not, or there is another last
			changes[rapid.IntRange(0, 9).Draw(t, "field")](&all[at])
			all[at].Digest = all[at].Sum()
			if at == len(all)-1 {
				assert.NotEmpty(t, verified(all, n, written(len(all))[at].Digest))
				return
			}
		case 2:
			all = slices.Delete(all, at, at+1)
		case 3:
			all = slices.Insert(all, at, all[rapid.IntRange(0, len(all)-1).Draw(t, "of")])
		case 4:
			other := rapid.IntRange(0, len(all)-1).Filter(func(i int) bool { return i != at }).Draw(t, "other")
			all[at], all[other] = all[other], all[at]
		case 5:
			all = all[:at]
		}
		assert.NotEmpty(t, verified(all, n, ""))
	})
}

func TestWhatIsWrongIsSaid(t *testing.T) {
	all := written(6)
	assert.Equal(t, []Wrong{{3, "is missing"}}, verified(slices.Delete(slices.Clone(all), 2, 3), 6, ""))
	assert.Equal(t, []Wrong{{3, "and those up to 4 are missing"}}, verified(slices.Delete(slices.Clone(all), 2, 4), 6, ""))
	assert.Equal(t, "entry 5 and those up to 6 are missing: they were the last", verified(all[:4], 6, "")[0].String())
	changed := slices.Clone(all)
	changed[1].On = "run 99"
	assert.Equal(t, []Wrong{{2, "was changed"}}, verified(changed, 6, ""))
	assert.Contains(t, verified(all, 6, "another")[0].Why, "may have been made anew")
	many := written(Most + 50)
	for i := range many {
		many[i].Digest = ""
	}
	assert.Len(t, verified(many, int64(len(many)), ""), Most)
}

func TestAnEntryIsSaidInWords(t *testing.T) {
	e := written(1)[0]
	assert.Equal(t, "began run 0: raise of level-log", e.Words())
	e.Failed = "no room"
	assert.Equal(t, "began run 0: raise of level-log, which failed: no room", e.Words())
	e.Act = "sing"
	assert.Contains(t, e.Words(), "sing run 0")
}
