package health

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func said(text string, good bool) run.Reading { return run.Reading{Text: text, Good: good, At: noon} }

// two is software on a host with a disk, and an instance with nothing on it.
func two() *plan.Plan {
	p := &plan.Plan{Resources: []plan.Resource{
		{ID: "disk-1", Node: "disk", Title: "disk", Kind: kinds.Volume, Site: "vega", CostPerHour: money.Of(0.01)},
		{ID: "host-1", Node: "host", Title: "host", Kind: kinds.Instance, Site: "vega", CostPerHour: money.Of(0.1), CostOff: money.Of(0.02)},
		{ID: "host-1.if", Node: "host", Title: "port", Kind: kinds.Interface, Site: "vega", Spec: plan.InterfaceSpec{Instance: "host-1"}},
		{ID: "log-1", Node: "log", Title: "log", Kind: kinds.Software, Site: "vega", On: "host-1"},
		{ID: "log-1.page", Node: "log", Title: "page", Kind: kinds.Endpoint, Site: "vega", Spec: plan.EndpointSpec{EndpointOf: "log-1"}},
		{ID: "lone-1", Node: "lone", Title: "lone", Kind: kinds.Instance, Site: "vega", CostPerHour: money.Of(0.2)},
	}, Steps: []plan.Step{{ID: "host-1/attach:disk-1", Resource: "host-1", Op: op.Attach, Volume: "disk-1"}, {ID: "log-1/start", Resource: "log-1", Op: op.Start}}}
	return plan.Reindexed(p)
}

// leads has the software be a load balancer, which is not asked.
func leads(s *run.State) {
	s.Resource("log-1").Spec = plan.SoftwareSpec{LeadsTo: []string{"lone-1"}}
}

func TestWhatIsIdleIsNeitherOffNorWell(t *testing.T) {
	s := run.New(two())
	leads(s)
	all := Read(s, false).All
	assert.Equal(t, []int{1, 0, 0}, []int{all.Idle, all.Off, all.Bad})
	assert.Equal(t, all.All-1, all.Good)
}

// TestWhatIsOffIsNotToBeActive holds that a site which says that a machine is stopped says nothing bad of one that was switched off.
func TestWhatIsOffIsNotToBeActive(t *testing.T) {
	s := run.New(two())
	lone := s.Resource("lone-1")
	lone.SiteSaid = said("stopped", false)
	all := Read(s, false).All
	assert.Equal(t, []int{1, 0}, []int{all.Sites, all.SitesGood})
	lone.Off = true
	all = Read(s, false).All
	assert.Zero(t, all.Sites)
}

func TestAConditionIsTheGravestThingSaid(t *testing.T) {
	for _, c := range []struct {
		id     string
		change func(s *run.State, r *run.Resource)
		word   string
		status run.Status
	}{
		{"log-1", func(*run.State, *run.Resource) {}, "standing", run.Standing},
		{"log-1", func(_ *run.State, r *run.Resource) { r.Answer = said("open", true) }, "serving", run.Standing},
		{"log-1", func(_ *run.State, r *run.Resource) { r.Answer = said("refused", false) }, "silent", run.Failed},
		{"log-1", func(s *run.State, r *run.Resource) {
			s.Resource("host-1").Off = true
			r.Answer = said("refused", false)
		}, "switched off", run.Passed},
		{"log-1.page", func(s *run.State, _ *run.Resource) { s.Resource("host-1").Off = true }, "switched off", run.Passed},
		{"log-1.page", func(s *run.State, _ *run.Resource) { leads(s) }, "idle", run.Passed},
		{"log-1.page", func(s *run.State, _ *run.Resource) { s.Resource("host-1").Off = true; leads(s) }, "switched off", run.Passed},
		{"host-1.if", func(s *run.State, _ *run.Resource) { s.Resource("host-1").Off = true }, "switched off", run.Passed},
		{"host-1", func(_ *run.State, r *run.Resource) { r.SiteSaid = said("active", true) }, "ready", run.Standing},
		{"host-1", func(_ *run.State, r *run.Resource) { r.SiteSaid = said("it is not there", false) }, "gone wrong", run.Failed},
		{"host-1", func(_ *run.State, r *run.Resource) { r.SiteSaid = run.Reading{Text: "building"} }, "standing", run.Standing},
		{"host-1", func(_ *run.State, r *run.Resource) {
			r.SiteSaid, r.Answer = said("active", true), said("refused", false)
		}, "ready", run.Standing},
		{"disk-1", func(_ *run.State, r *run.Resource) { r.SiteSaid = said("online", true) }, "ready", run.Standing},
		{"log-1", func(s *run.State, _ *run.Resource) { s.Step("log-1/start").Status = run.Failed }, "half done", run.Failed},
	} {
		s := run.Stood(two(), nil)
		r := s.Resource(c.id)
		c.change(s, r)
		got := Of(s, r, false)
		assert.Equal(t, c.word, got.Word, c.id)
		assert.Equal(t, c.status, got.Status, c.id)
		assert.NotEmpty(t, got.Why)
	}
}

func TestWhatRisesIsAsFarAsItsRun(t *testing.T) {
	s := run.Stood(two(), nil)
	for status, word := range map[run.Status]string{run.Planned: "planned", run.UnderWay: "under way", run.Held: "held", run.Failed: "failed", run.Stopped: "failed", run.Retired: "gone", run.Standing: "standing"} {
		r := s.Resource("log-1")
		r.Status, r.SiteSaid = status, said("it is not there", false)
		assert.Equal(t, word, Of(s, r, true).Word)
	}
}

func TestATierHasWhatItRunsOn(t *testing.T) {
	p := two()
	assert.Equal(t, []string{"log", "lone"}, Tiers(p))
	of := TiersOf(p)
	for _, id := range []string{"host-1", "host-1.if", "disk-1", "log-1", "log-1.page"} {
		assert.Equal(t, "log", of[id], id)
	}
	assert.Equal(t, "lone", of["lone-1"])
	p.Resources[1].Service = "stores"
	assert.Equal(t, "stores", TiersOf(p)["host-1"], "what is of a service stays of it")
}

func TestTalliesAndWhatTheyCost(t *testing.T) {
	s := run.Stood(two(), nil)
	s.Resource("host-1").SiteSaid, s.Resource("log-1").Answer = said("active", true), said("refused", false)
	got := Read(s, false)
	log := got.By["log"]
	assert.Equal(t, Tally{All: 4, Good: 3, Bad: 1, On: 1, Sites: 1, SitesGood: 1, Answers: 1, Cost: money.Of(0.11), Worst: "log silent"}, *log)
	assert.Equal(t, run.Failed, log.Status())
	assert.Equal(t, money.Of(0.31), got.All.Cost)
	s.Resource("host-1").Off = true
	log = Read(s, false).By["log"]
	assert.Equal(t, money.Of(0.03), log.Cost, "off it costs what that costs, and its disk")
	assert.Equal(t, 3, log.Off)
	assert.Equal(t, run.Passed, log.Status(), "though the disk stands")
	assert.Equal(t, run.Passed, (&Tally{Off: 2}).Status())
	assert.Equal(t, run.UnderWay, (&Tally{Rising: 1, Good: 3}).Status())
	assert.Equal(t, 5, Read(run.New(two()), true).All.Rising, "of a run that has just begun nothing is there yet, and nothing wrong")
}

func TestWholeIsTheLastRunUnlessWhatWasReadIsWorse(t *testing.T) {
	for _, c := range []struct {
		left   run.Status
		tally  Tally
		status run.Status
		word   string
	}{
		{run.Standing, Tally{Good: 3}, run.Standing, "standing"},
		{run.Standing, Tally{Good: 3, Bad: 2}, run.Failed, "2 not well"},
		{run.Standing, Tally{Off: 2}, run.Passed, "switched off"},
		{run.Standing, Tally{Off: 2, Good: 1}, run.Passed, "switched off"},
		{run.Standing, Tally{Off: 2, Good: 1, On: 1}, run.Standing, "standing, 2 off"},
		{run.UnderWay, Tally{Bad: 2}, run.UnderWay, "under way"},
		{run.Retired, Tally{}, run.Retired, "retired"},
		{run.Failed, Tally{Good: 9}, run.Failed, "failed"},
		{run.Failed, Tally{Good: 9, Bad: 1}, run.Failed, "failed, 1 not well"},
		{run.Stopped, Tally{Good: 9, Bad: 1}, run.Stopped, "stopped, 1 not well"},
	} {
		status, word := Whole(c.left, &c.tally)
		assert.Equal(t, c.status, status)
		assert.Equal(t, c.word, word)
	}
}

// Whatever is said of what stands, the tiers have each costly thing once, and together cost what all costs.
func TestTiersAddUpToAll(t *testing.T) {
	for _, preset := range []string{"drill", "storm-season"} {
		p := plantest.Plan(t, preset)
		rapid.Check(t, func(t *rapid.T) {
			s := run.Stood(p, nil)
			for i := range s.Resources {
				r := &s.Resources[i]
				r.SiteSaid = said("it", rapid.Bool().Draw(t, "site"))
				was := r.Off
				r.Off = r.Kind == kinds.Instance && rapid.Bool().Draw(t, "off")
				defer func() { r.Off = was }()
			}
			got := Read(s, false)
			sum := money.Amount(0)
			for _, tier := range got.Tiers {
				sum += got.By[tier].Cost
				all := got.By[tier]
				require.Equal(t, all.All, all.Good+all.Bad+all.Off+all.Rising)
			}
			require.Equal(t, got.All.Cost, sum)
		})
	}
}
