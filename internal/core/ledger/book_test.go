package ledger_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/ledger"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
)

var noon = time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)

// teller writes the journal of a run as it may go.
type teller struct {
	t    *rapid.T
	s    *run.State
	at   time.Time
	all  []run.Event
	told func(run.Event)
}

func (w *teller) say(e run.Event) {
	w.at = w.at.Add(time.Duration(rapid.IntRange(0, 4000).Draw(w.t, "later")) * time.Millisecond)
	e.Seq, e.At = int64(len(w.all)+1), w.at
	w.all = append(w.all, e)
	w.s.Apply(e)
	w.told(e)
}

// tell has a run go on until nothing can be begun, or somebody breaks it off.
func (w *teller) tell(trouble bool) {
	w.say(run.Event{Kind: run.RunStarted})
	for n := 0; ; n++ {
		if trouble && rapid.IntRange(0, 60).Draw(w.t, "broken off") == 0 {
			break
		}
		if trouble && rapid.IntRange(0, 40).Draw(w.t, "taken up") == 0 {
			w.say(run.Event{Kind: run.RunResumed})
		}
		st := w.next()
		if st == nil {
			break
		}
		if st.Status == run.Planned {
			w.say(run.Event{Kind: run.StepStarted, Step: st.ID})
			continue
		}
		w.goOn(st, trouble)
	}
	w.say(run.Event{Kind: run.RunEnded, Good: w.s.Done == len(w.s.Steps)})
}

// next is a step that may begin or go on; nil if none may.
func (w *teller) next() *run.Step {
	var may []*run.Step
	for i := range w.s.Steps {
		st := &w.s.Steps[i]
		ready := st.Status == run.Planned && !slices.ContainsFunc(st.After, func(id string) bool {
			x := w.s.Step(id).Status
			return x != run.Standing && x != run.Passed
		})
		if ready || st.Status == run.UnderWay || st.Status == run.Failed && !st.Skipped && rapid.IntRange(0, 2).Draw(w.t, "decide") == 0 {
			may = append(may, st)
		}
	}
	if len(may) == 0 {
		return nil
	}
	return rapid.SampledFrom(may).Draw(w.t, "step")
}

func (w *teller) goOn(st *run.Step, trouble bool) {
	builds := st.Op == op.Create && st.Script == nil
	switch {
	case st.Status == run.Failed:
		ways := []string{run.Retry, run.Skip}
		if builds {
			ways = ways[:1] // without it, what comes after could not be done, and would fail
		}
		w.say(run.Event{Kind: run.Decided, Step: st.ID, Text: rapid.SampledFrom(ways).Draw(w.t, "decision")})
	case builds && st.AskedID == "" && (!trouble || rapid.IntRange(0, 3).Draw(w.t, "asked") > 0):
		w.say(run.Event{Kind: run.StepAsked, Step: st.ID, Attributes: map[string]string{"site.id": st.Resource}})
	case trouble && builds && st.AskedID != "" && rapid.IntRange(0, 5).Draw(w.t, "thrown away") == 0:
		w.say(run.Event{Kind: run.Discarded, Step: st.ID})
	case trouble && rapid.IntRange(0, 7).Draw(w.t, "fails") == 0:
		w.say(run.Event{Kind: rapid.SampledFrom([]run.EventKind{run.StepFailed, run.StepStopped}).Draw(w.t, "ends"), Step: st.ID})
	default:
		w.say(run.Event{Kind: run.StepDone, Step: st.ID})
	}
}

// small is the part of a plan that stands at one site, so that many lives are told in little time.
func small(t require.TestingT) *plan.Plan {
	full := plantest.Plan(t.(testing.TB), "drill")
	p := *full
	p.Resources, p.Steps = nil, nil
	has := map[string]bool{}
	for _, r := range full.Resources {
		if r.Site == "vega" && (r.Kind == kinds.Instance || r.Kind == kinds.Volume || r.Kind == kinds.Network || r.Kind == kinds.Interface) {
			r.StandsOn = slices.DeleteFunc(slices.Clone(r.StandsOn), func(id string) bool { return !has[id] })
			p.Resources, has[r.ID] = append(p.Resources, r), true
		}
	}
	for _, s := range full.Steps {
		if has[s.Resource] && s.Script == nil && (s.Volume == "" || has[s.Volume]) {
			s.After = slices.DeleteFunc(slices.Clone(s.After), func(id string) bool { return !has[op.ResourceOf(id)] || full.Step(id).Script != nil })
			p.Steps = append(p.Steps, s)
		}
	}
	out := plan.Reindexed(&p)
	require.NoError(t, out.Arrange())
	return out
}

// TestTheBookIsTheJournal draws lives of a deployment, and at each moment of them has what is charged be what stands by the journal until
// then, at what it costs; what the site was never asked for, or refused, is not charged.
func TestTheBookIsTheJournal(t *testing.T) {
	p := small(t)
	rapid.Check(t, func(t *rapid.T) {
		book := ledger.NewBook(7)
		stand, at := change.Nothing(p), noon
		off := change.Rest(p, func(r *plan.Resource) bool { return true })
		for n, to := range []*plan.Plan{p, rapid.SampledFrom([]*plan.Plan{off, p}).Draw(t, "then"), p, change.Nothing(p).Plan} {
			next, err := change.Compile(stand, to, fmt.Sprint(n))
			require.NoError(t, err, "%d %v", n, stand.Unsure)
			before := stand
			r := book.Read(before, next, at)
			check := rapid.IntRange(5, 25).Draw(t, "look each")
			w := &teller{t: t, s: run.New(next), at: at}
			w.told = func(e run.Event) {
				require.NoError(t, r.Apply(e))
				if e.Kind == run.RunEnded || len(w.all)%check == 0 {
					looks(t, book, before, w.s, w.all)
				}
			}
			w.tell(n < 3 && rapid.Bool().Draw(t, "trouble"))
			stand, err = change.After(before, w.s)
			require.NoError(t, err)
			at = w.at.Add(time.Hour)
		}
		addsUp(t, book, at)
	})
}

// looks compares what is charged now with what stands.
func looks(t *rapid.T, book *ledger.Book, before change.Standing, s *run.State, all []run.Event) {
	stand, err := change.After(before, s)
	require.NoError(t, err)
	want, got := map[string]string{}, map[string]string{}
	for i := range stand.Plan.Resources {
		r := &stand.Plan.Resources[i]
		if (r.Kind == kinds.Instance || r.Kind == kinds.Volume || r.Costs() > 0) && !refused(s, before, book, r.ID) {
			want[r.ID] = fmt.Sprint(r.Costs(), r.Off)
		}
	}
	for i := range book.Charges {
		if c := &book.Charges[i]; c.To.IsZero() {
			require.NotContains(t, got, c.Resource, "charged twice")
			got[c.Resource] = fmt.Sprint(c.PerHour, c.Off)
		}
	}
	for i := range s.Steps { // what is being switched is charged as it was until that ended
		if st := &s.Steps[i]; st.Op.Row().Fold != op.AsItWas && !st.Started.IsZero() && (st.Status == run.UnderWay || st.Status == run.Planned) {
			delete(want, st.Resource)
			delete(got, st.Resource)
		}
	}
	var told []string
	for _, e := range all {
		told = append(told, fmt.Sprint(e.Kind, " ", e.Step, " ", e.Text))
	}
	require.Equal(t, want, got, "%v", told)
}

// refused reports that the site never took what it was asked for, or was not asked yet.
func refused(s *run.State, before change.Standing, book *ledger.Book, resource string) bool {
	st := s.Step(op.Create.On(resource))
	if st == nil || st.Status == run.Standing {
		return st == nil && book.Never[resource]
	}
	gone := s.Step(op.Remove.On(resource))
	return st.AskedID == "" && (before.Plan.Resource(resource) == nil || gone != nil && gone.Status == run.Standing || book.Never[resource])
}

// addsUp cuts the time anyhow, by anything: the parts come to the whole, to the last millionth.
func addsUp(t *rapid.T, book *ledger.Book, end time.Time) {
	d := ledger.Deployed{Name: "flood-watch", Application: "flood watch", Owners: []ledger.Owned{{From: noon, Owner: guard.Owner{Team: "gauging"}},
		{From: noon.Add(time.Duration(rapid.IntRange(1, 4000).Draw(t, "given away")) * time.Second), Owner: guard.Owner{Team: "forecasting", Tags: map[string]string{"cost-centre": "9"}}}}}
	entries := d.Entries(book.Closed())
	var rates *ledger.Rates
	if rapid.Bool().Draw(t, "in a currency") {
		var err error
		rates, err = ledger.ReadRates([]byte(`{"version":"andamio.rates/1","unit":"cr","currency":"EUR","rates":[{"from":"2026-01-01","value":0.8731},{"from":"2026-11-03","value":0.91}]}`))
		require.NoError(t, err)
	}
	var whole money.Amount
	if rates == nil {
		for i := range book.Charges {
			whole += book.Charges[i].Cost(noon, end)
		}
	} else {
		whole = ledger.Sum(entries, ledger.Query{From: noon, To: end, By: "site"}, "cr", rates).Total.Cost
	}
	by := rapid.SampledFrom(append([]string{"tag:cost-centre"}, ledger.Dimensions...)).Draw(t, "by")
	cuts := []time.Time{noon}
	for cuts[len(cuts)-1].Before(end) {
		cuts = append(cuts, cuts[len(cuts)-1].Add(time.Duration(rapid.IntRange(1, 20000).Draw(t, "cut"))*time.Second))
	}
	cuts[len(cuts)-1] = end
	var sum money.Amount
	for i := range cuts[1:] {
		q := ledger.Query{From: cuts[i], To: cuts[i+1], By: by, Every: rapid.SampledFrom([]string{"", "hour", "day", "month"}).Draw(t, "every")}
		require.NoError(t, q.Check())
		a := ledger.Sum(entries, q, "cr", rates)
		var lines, parts money.Amount
		for _, l := range a.Lines {
			lines += l.Cost
			if q.Every != "" {
				parts += money.Sum(l.Each...)
			}
		}
		require.Equal(t, a.Total.Cost, lines, "the lines come to the total")
		if q.Every != "" {
			require.Equal(t, a.Total.Cost, parts, "and so do their parts")
		}
		sum += a.Total.Cost
	}
	require.Equal(t, whole, sum)
}

// TestWhatIsChargedFromWhen tells the life of one volume and one instance, to the second.
func TestWhatIsChargedFromWhen(t *testing.T) {
	p := small(t)
	var vol *plan.Resource
	for i := range p.Resources {
		if p.Resources[i].Kind == kinds.Volume {
			vol = &p.Resources[i]
		}
	}
	require.NotNil(t, vol)
	step := op.Create.On(vol.ID)
	at := func(n int) time.Time { return noon.Add(time.Duration(n) * time.Second) }
	for name, c := range map[string]struct {
		events []run.Event
		from   int // -1 is never
	}{
		"as soon as the site took it": {[]run.Event{{Kind: run.StepStarted, At: at(2)}, {Kind: run.StepAsked, At: at(5), Attributes: map[string]string{"site.id": "v"}}, {Kind: run.StepDone, At: at(9)}}, 5},
		"found there already":         {[]run.Event{{Kind: run.StepStarted, At: at(2)}, {Kind: run.StepDone, At: at(9)}}, 9},
		"refused":                     {[]run.Event{{Kind: run.StepStarted, At: at(2)}, {Kind: run.StepFailed, At: at(9)}}, -1},
		"taken and failed":            {[]run.Event{{Kind: run.StepStarted, At: at(2)}, {Kind: run.StepAsked, At: at(5), Attributes: map[string]string{"site.id": "v"}}, {Kind: run.StepFailed, At: at(9)}}, 5},
		"refused, and taken later":    {[]run.Event{{Kind: run.StepStarted, At: at(2)}, {Kind: run.StepFailed, At: at(9)}, {Kind: run.Decided, Text: run.Retry, At: at(20)}, {Kind: run.StepStarted, At: at(21)}, {Kind: run.StepDone, At: at(23)}}, 23},
		"refused, and done without":   {[]run.Event{{Kind: run.StepStarted, At: at(2)}, {Kind: run.StepFailed, At: at(9)}, {Kind: run.Decided, Text: run.Skip, At: at(20)}}, -1},
		"a clock that was put back":   {[]run.Event{{Kind: run.StepStarted, At: at(2)}, {Kind: run.StepAsked, At: at(5), Attributes: map[string]string{"site.id": "v"}}, {Kind: run.StepDone, At: at(-60)}}, 5},
	} {
		t.Run(name, func(t *testing.T) {
			book := ledger.NewBook(1)
			r := book.Read(change.Nothing(p), p, noon)
			require.NoError(t, r.Apply(run.Event{Seq: 1, Kind: run.RunStarted, At: at(1)}))
			for i, e := range c.events {
				e.Seq, e.Step = int64(i+2), step
				require.NoError(t, r.Apply(e))
			}
			if c.from < 0 {
				assert.Empty(t, book.Charges)
				return
			}
			require.Len(t, book.Charges, 1)
			got := book.Charges[0]
			assert.Equal(t, []any{vol.ID, vol.DiskGiB(), vol.CostPerHour, at(c.from), true}, []any{got.Resource, got.DiskGiB, got.PerHour, got.From, got.To.IsZero()})
		})
	}
}
