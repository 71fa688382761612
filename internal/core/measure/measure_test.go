package measure

import (
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)

// samples draws a slot with its value, or none, for each slot of a row.
func samples(t *rapid.T, slots int64) []int64 {
	value := rapid.OneOf(rapid.Just(int64(missing)), rapid.Int64Range(-3, 3), rapid.Int64Range(-1<<53, 1<<53))
	var out []int64
	for int64(len(out)) < slots {
		v, n := value.Draw(t, "value"), rapid.IntRange(1, 9).Draw(t, "times")
		out = append(out, slices.Repeat([]int64{v}, min(n, int(slots)-len(out)))...)
	}
	return out
}

func TestAColumnIsReadAsItWasWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := samples(t, Raw.Slots())
		var p pen
		for i, q := range want {
			if rapid.IntRange(0, 20).Draw(t, "looked at meanwhile") == 0 {
				_ = p.column() // which changes nothing
			}
			p.put(int64(i), q)
		}
		got := blank(Raw.Slots())
		require.NoError(t, read(p.column(), Raw.Slots(), func(slot, q int64) { got[slot] = q }))
		assert.Equal(t, want, got)
	})
}

func TestASlotKeepsItsFirstSample(t *testing.T) {
	var p pen
	assert.True(t, p.put(3, 7))
	assert.False(t, p.put(3, 8))
	assert.False(t, p.put(1, 8))
	got := blank(5)
	require.NoError(t, read(p.column(), 5, func(slot, q int64) { got[slot] = q }))
	assert.Equal(t, []int64{missing, missing, missing, 7, missing}, got)
}

// FuzzRead holds that no data harms whoever reads it, and none has more samples than a row.
func FuzzRead(f *testing.F) {
	f.Add([]byte{5, 0, 3, 1, 200, 1, 7})
	f.Add(Pack([]Column{{Name: "cores", Data: []byte{9, 0, 4}}, {Name: "cores", Part: Max, Data: []byte{9}}}))
	f.Add([]byte{0, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 1})
	f.Fuzz(func(t *testing.T, data []byte) {
		_ = read(data, 120, func(slot, _ int64) { require.Less(t, slot, int64(120)) })
		for _, l := range []Level{-1, Raw, Fine, Coarse, 7} {
			_, _ = columnsOf(&Row{Level: l, Body: data}, "")
		}
		_, _ = Join([]Tail{{Body: data}})
	})
}

func TestDataThatIsDamagedIsRefused(t *testing.T) {
	for name, c := range map[string]struct {
		body []byte
		says string
	}{
		"a name that is cut off":       {[]byte{9, 'c'}, "damaged"},
		"no part":                      {[]byte{1, 'c'}, "damaged"},
		"a part that there is not":     {[]byte{1, 'c', 9, 0}, "damaged"},
		"data that is cut off":         {[]byte{1, 'c', 0, 9, 1}, "cut off"},
		"a length that does not end":   {[]byte{0xff}, "damaged"},
		"a run without a length":       {[]byte{1, 'c', 0, 1, same}, "column is cut off"},
		"a number that does not end":   {[]byte{1, 'c', 0, 1, 0xff}, "column is cut off"},
		"more samples than a row has":  {[]byte{1, 'c', 0, 3, same, 121, 1}, "more than 120"},
		"one sample more than it has":  {[]byte{1, 'c', 0, 3, absent, 120, 5}, "more than 120"},
		"least and most without means": {[]byte{1, 'c', 1, 1, 5}, "no means of c"},
	} {
		_, err := columnsOf(&Row{Body: c.body}, "")
		assert.ErrorContains(t, err, c.says, name)
		_, err = RollUp([]Row{{Body: c.body}}, Fine, 0)
		assert.Error(t, err, name)
		_, err = Curve([]Row{{Body: c.body}}, "c", noon, noon.Add(time.Hour), time.Minute)
		assert.Error(t, err, name)
	}
	for name, body := range map[string][]byte{"no length": {7}, "a number that does not end": {0xff}, "columns that are damaged": {7, 2, 9, 9}, "a column that is": {7, 6, 1, 'c', 0, 1, same}} {
		_, err := Join([]Tail{{Body: body}})
		assert.Error(t, err, name)
		_, _, err = Resume([]Tail{{Body: body}}, noon)
		assert.Error(t, err, name)
		_, _, err = Resume([]Tail{{Body: body, First: Raw.First(Raw.Slot(noon))}}, noon)
		assert.Error(t, err, name)
	}
}

// history draws what was measured of some things over some rows of time, by thing, measure and slot.
type history map[int64]map[string]map[int64]float64

func drawHistory(t *rapid.T, rows int64) history {
	out := history{}
	first := Raw.First(Raw.Slot(noon))
	for thing := range int64(rapid.IntRange(1, 3).Draw(t, "things")) {
		thing = 1 + thing*600 // so that they are in several groups
		out[thing] = map[string]map[int64]float64{}
		for _, name := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{CoresUsed, AnswerTime, On, "odd one"}), 1, 3, rapid.ID).Draw(t, "names") {
			out[thing][name] = map[int64]float64{}
			for range rapid.IntRange(0, 25).Draw(t, "samples") {
				m := Of(name)
				out[thing][name][first+rapid.Int64Range(0, rows*Raw.Slots()-1).Draw(t, "slot")] = m.Step * float64(rapid.IntRange(-50, 5000).Draw(t, "value"))
			}
		}
	}
	return out
}

// rounds are what was measured, one moment after another.
func (h history) rounds() []Round {
	by := map[int64]*Round{}
	for thing, names := range h {
		for name, values := range names {
			for slot, v := range values {
				if by[slot] == nil {
					by[slot] = &Round{Slot: slot}
				}
				by[slot].Samples = append(by[slot].Samples, Measured{thing, name, v})
			}
		}
	}
	var out []Round
	for _, r := range by {
		out = append(out, *r)
	}
	slices.SortFunc(out, func(a, b Round) int { return int(a.Slot - b.Slot) })
	return out
}

// TestWhoeverDiesLosesNothingThatWasKept measures a history with a head that ends at any round and is resumed from its tails, and holds that each sample is in the rows
// once, whatever the order in which tails come.
func TestWhoeverDiesLosesNothingThatWasKept(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := drawHistory(t, 3)
		head := NewHead(noon)
		var kept []Tail
		rows := map[string]Row{}
		keep := func(of []Row) {
			for _, r := range of {
				key := fmt.Sprint(r.Thing, " ", r.First)
				require.NotContains(t, rows, key)
				rows[key] = r
			}
		}
		for _, r := range h.rounds() {
			at := Raw.At(r.Slot)
			if rapid.IntRange(0, 9).Draw(t, "dies") == 0 {
				back, whole, err := Resume(rapid.Permutation(kept).Draw(t, "order"), at)
				require.NoError(t, err)
				head = back
				if len(whole) > 0 {
					keep(whole)
					kept = nil
				}
			}
			if !at.Before(head.Ends()) {
				keep(head.Take(at))
				kept = nil
			}
			for _, s := range r.Samples {
				require.True(t, head.Put(s.Thing, s.Name, at, s.Value))
			}
			kept = append(kept, Tails(r)...)
		}
		keep(head.Take(noon))
		var all []Row
		for _, r := range rows {
			all = append(all, r)
		}
		h.holds(t, all, Raw.Step())
	})
}

// holds says that rows tell of each thing what was measured: the mean, the least and the most of each step.
func (h history) holds(t *rapid.T, rows []Row, step time.Duration) {
	for thing, names := range h {
		var of []Row
		for _, r := range rows {
			if r.Thing == thing {
				of = append(of, r)
			}
		}
		for name, values := range names {
			sums, points := map[time.Time][]float64{}, 0
			for slot, v := range values {
				at := Raw.At(slot).Truncate(step)
				sums[at] = append(sums[at], v)
			}
			got, err := Curve(of, name, noon, noon.Add(3*Raw.Row()), step)
			require.NoError(t, err)
			for _, p := range got {
				want := sums[p.At]
				require.Equal(t, len(want) > 0, p.N > 0, "%s of %d at %v", name, thing, p.At)
				if len(want) == 0 {
					continue
				}
				points++
				mean := 0.0
				for _, v := range want {
					mean += v / float64(len(want))
				}
				m := Of(name)
				assert.InDelta(t, mean, p.Mean, m.Step*0.51)
				assert.InDelta(t, slices.Min(want), p.Min, m.Step*1e-6)
				assert.InDelta(t, slices.Max(want), p.Max, m.Step*1e-6)
			}
			assert.Equal(t, len(sums), points)
		}
	}
}

func TestCoarserRowsSayWhatFinerOnesDo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := drawHistory(t, 3)
		head, rows := NewHead(noon), []Row(nil)
		for _, r := range h.rounds() {
			at := Raw.At(r.Slot)
			if !at.Before(head.Ends()) {
				rows = append(rows, head.Take(at)...)
			}
			for _, s := range r.Samples {
				head.Put(s.Thing, s.Name, at, s.Value)
			}
		}
		rows = append(rows, head.Take(noon)...)
		var fine []Row
		for thing := range h {
			var of []Row
			for _, r := range rows {
				if r.Thing == thing {
					of = append(of, r)
				}
			}
			r, err := RollUp(of, Fine, Fine.First(Fine.Slot(noon)))
			require.NoError(t, err)
			r.Thing = thing
			fine = append(fine, r)
		}
		h.holds(t, fine, Fine.Step())
		h.holds(t, append(fine, rows...), Fine.Step())
	})
}

func TestEveryMomentIsInARow(t *testing.T) {
	for _, l := range []Level{Raw, Fine, Coarse} {
		first := l.First(l.Slot(noon.Add(17 * time.Minute)))
		assert.True(t, !l.At(first).After(noon.Add(17*time.Minute)) && l.At(first+l.Slots()).After(noon.Add(17*time.Minute)))
	}
	old := time.Date(1969, 12, 31, 23, 59, 59, 0, time.UTC)
	assert.EqualValues(t, -1, Raw.Slot(old))
	assert.EqualValues(t, -Raw.Slots(), Raw.First(-1))
}

func TestWhatIsNoNumberIsMissing(t *testing.T) {
	h := NewHead(noon)
	for i, v := range []float64{math.NaN(), math.Inf(1), 1e300, 2} {
		assert.True(t, h.Put(1, CoresUsed, noon.Add(time.Duration(i)*Raw.Step()), v))
	}
	assert.False(t, h.Put(1, CoresUsed, noon.Add(-time.Second), 1), "it is of an earlier row")
	assert.False(t, h.Put(1, CoresUsed, h.Ends(), 1), "it is of a later one")
	assert.Empty(t, h.Of(2).Body)
	got, err := Curve([]Row{h.Of(1)}, CoresUsed, noon, noon.Add(time.Minute), Raw.Step())
	require.NoError(t, err)
	require.Len(t, got, 4)
	for _, p := range got[:3] {
		assert.Zero(t, p.N)
	}
	assert.Equal(t, Point{noon.Add(45 * time.Second), 2, 2, 2, 1}, got[3])
	none, err := Curve(nil, CoresUsed, noon, noon, time.Second)
	assert.True(t, err == nil && none == nil)
	assert.Nil(t, Tails(Round{}))
}

func TestEveryMeasureIsWhole(t *testing.T) {
	seen := map[string]bool{}
	for _, m := range Catalogue {
		assert.False(t, seen[m.Name], m.Name)
		seen[m.Name] = true
		assert.Positive(t, m.Step, m.Name)
		assert.NotEmpty(t, m.Words, m.Name)
		assert.NotEmpty(t, m.Of, m.Name)
		if m.Limit != "" {
			assert.Equal(t, m.Unit, Of(m.Limit).Unit, m.Name)
			assert.True(t, Known(m.Limit), m.Name)
		}
	}
	assert.False(t, Known("heat"))
	assert.Equal(t, "heat", Of("heat").Words)
}
