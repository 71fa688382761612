package change_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/change"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// stood is what stands when all of a small design was built.
func stood(t *rapid.T) (change.Standing, parts) {
	p := draw(t, "design")
	d := design(p)
	s := done(t, change.Nothing(d), d)
	for i := range s.Plan.Resources {
		id := s.Plan.Resources[i].ID
		s.Plan.Known[id] = map[string]string{"site.id": "at-" + id}
	}
	return s, p
}

func stepIDs(s change.Standing) []string {
	var out []string
	for i := range s.Plan.Steps {
		out = append(out, s.Plan.Steps[i].ID)
	}
	slices.Sort(out)
	return out
}

// nothingLeft asserts that what stands needs no change to be what it is.
func nothingLeft(t *rapid.T, s change.Standing) {
	p, err := change.Compile(s, s.Plan, "")
	require.NoError(t, err)
	assert.Empty(t, p.Steps)
}

// TestDeviationsAreSettled settles one deviation of a random deployment in every way, and looks what stands then.
func TestDeviationsAreSettled(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, p := stood(t)
		if p.hosts == 0 {
			return
		}
		i := rapid.IntRange(0, p.hosts-1).Draw(t, "host")
		host := fmt.Sprintf("host-%d", i)
		settled := func(d change.Deviation) (*plan.Plan, change.Standing) {
			d.Resource = host
			out, err := change.Settle(s, []change.Deviation{d}, "settle")
			require.NoError(t, err)
			require.NoError(t, out.Check())
			return out, done(t, s, out)
		}
		has := func(out *plan.Plan, op op.Op) bool {
			return slices.ContainsFunc(out.Steps, func(x plan.Step) bool { return x.Op == op && x.Resource == host })
		}
		seven := map[string]string{"cores": "7"}

		out, after := settled(change.Deviation{Verb: change.Accept, Seen: seven})
		assert.True(t, change.Notes(out), "nothing at the site changes")
		assert.Equal(t, 7, after.Plan.Resource(host).AsInstance().Cores)
		assert.Equal(t, stepIDs(s), stepIDs(after))
		nothingLeft(t, after)

		out, after = settled(change.Deviation{Verb: change.Correct, Seen: seven, Mend: map[string]string{"tag.owner": "maps"}})
		assert.True(t, has(out, op.Alter) && has(out, op.Mend), "the site is made what is declared")
		assert.Equal(t, p.cores[i], after.Plan.Resource(host).AsInstance().Cores)
		assert.Equal(t, stepIDs(s), stepIDs(after))
		nothingLeft(t, after)

		out, after = settled(change.Deviation{Verb: change.Rebuild, Mend: map[string]string{"name": "other"}})
		require.True(t, has(out, op.Lose) && has(out, op.Create))
		create, mend := out.Step(host+"/create"), out.Step(host+"/mend")
		assert.Contains(t, create.After, host+"/lose", "that it is gone is noted first")
		assert.Contains(t, mend.After, create.ID, "and its name is set when it is there again")
		assert.Equal(t, stepIDs(s), stepIDs(after), "all that stood on it stands again")
		nothingLeft(t, after)

		if needed := change.NeededBy(s, host); len(needed) > 0 {
			assert.NotContains(t, needed, host)
			return
		}
		out, after = settled(change.Deviation{Verb: change.GiveUp})
		assert.True(t, change.Notes(out))
		assert.Nil(t, after.Plan.Resource(host))
		for _, r := range after.Plan.Resources {
			assert.NotEqual(t, host, r.On)
			assert.NotEqual(t, host, r.PartOf)
		}
		nothingLeft(t, after)
	})
}

// TestWhatWasOnADiskThatIsGoneIsDoneAnew has a disk be gone, and be built again or given up, by a run that may break off anywhere: what ran on its machine is put there again.
func TestWhatWasOnADiskThatIsGoneIsDoneAnew(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := draw(t, "design")
		i := slices.IndexFunc(p.volume, func(gib float64) bool { return gib > 0 })
		if i < 0 {
			return
		}
		d, w := design(p), newWorld()
		s := compiled(t, w, change.Nothing(d), d)
		volume := fmt.Sprintf("vol-%d", i)
		require.NoError(t, w.remove(fmt.Sprintf("host-%d %s", i, volume), false))
		require.NoError(t, w.remove(volume, false))

		verb := rapid.SampledFrom([]change.Verb{change.Rebuild, change.GiveUp}).Draw(t, "verb")
		settles, err := change.Settle(s, []change.Deviation{{Resource: volume, Verb: verb}}, "settle")
		require.NoError(t, err)
		if verb == change.GiveUp {
			p.volume[i] = 0
			d = design(p)
		}
		var left change.Standing
		if rapid.Bool().Draw(t, "breaks off") {
			broke := w.partly(t, settles)
			if broke.Step(op.Lose.On(volume)).Status != run.Standing {
				return // nobody knows that it is gone
			}
			left = after(t, s, broke)
			w.tolerant = left.Unsure
		} else {
			w.run(t, settles)
			left = done(t, s, settles)
			require.Equal(t, built(t, d).picture(), w.picture())
		}
		compiled(t, w, left, d)
	})
}

// TestAnInstanceSeenOffIsStartedOrLeftSo settles what somebody switched off.
func TestAnInstanceSeenOffIsStartedOrLeftSo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, p := stood(t)
		i := slices.Index(p.off, false)
		if i < 0 {
			return
		}
		host := fmt.Sprintf("host-%d", i)
		off := map[string]string{"state": "stopped"}
		started, err := change.Settle(s, []change.Deviation{{Resource: host, Verb: change.Correct, Seen: off}}, "start")
		require.NoError(t, err)
		assert.NotNil(t, started.Step(host+"/boot"))
		assert.Equal(t, stepIDs(s), stepIDs(done(t, s, started)), "what ran on it is started again")

		again, err := change.Settle(s, []change.Deviation{{Resource: host, Verb: change.Restart}}, "start again")
		require.NoError(t, err)
		require.NoError(t, again.Check())
		require.NotNil(t, again.Step(host+"/halt"))
		assert.Contains(t, again.Step(host+"/boot").After, host+"/halt", "it is switched off first")
		assert.False(t, done(t, s, again).Plan.Resource(host).Off)
		assert.Equal(t, stepIDs(s), stepIDs(done(t, s, again)), "what ran on it is started again")

		left, err := change.Settle(s, []change.Deviation{{Resource: host, Verb: change.Accept, Seen: off}}, "leave")
		require.NoError(t, err)
		assert.True(t, change.Notes(left))
		after := done(t, s, left)
		assert.True(t, after.Plan.Resource(host).Off)
		nothingLeft(t, after)
	})
}

func TestThingsOfNobodyAreHandledAndRestored(t *testing.T) {
	p, err := change.Handle([]change.Thing{{Kind: kinds.Volume, Name: "old", Site: "vega", Provider: "v-1", Remove: true},
		{Kind: kinds.Instance, Name: "try", Site: "presa", Provider: "i-1", Mend: map[string]string{"tag.owner": ""}}}, "tidy up", "cr")
	require.NoError(t, err)
	assert.Equal(t, "v-1", p.Known["vega/v-1"]["site.id"])
	assert.Equal(t, op.Remove, p.Step("vega/v-1/remove").Op)
	assert.Equal(t, map[string]string{"tag.owner": ""}, p.Step("presa/i-1/mend").Mends)
	assert.True(t, done(t, change.Nothing(p), p).Empty(), "nothing of it stands")

	r := inventory.Record{Class: kinds.Instance, Name: "try", Site: "presa", Attributes: map[string]string{"cores": "2", "memory_gib": "4", "image": "debian-12"}}
	back, err := change.Restore([]inventory.Record{r}, "cr")
	require.NoError(t, err)
	assert.Equal(t, 2, back.Resource("try").AsInstance().Cores)
	both, err := change.Beside(p, back)
	require.NoError(t, err)
	assert.Len(t, both.Steps, 3)
	assert.Equal(t, "tidy up, and build again what was removed", both.Purpose)
	assert.NotNil(t, done(t, change.Nothing(both), both).Plan.Resource("try"), "what was built again stands")
	_, err = change.Restore([]inventory.Record{{Class: kinds.Interface, Name: "n"}}, "cr")
	assert.ErrorContains(t, err, "cannot be built by itself")
	_, err = change.Settle(change.Nothing(p), []change.Deviation{{Resource: "none"}}, "")
	assert.ErrorContains(t, err, `nothing of the deployment is called "none"`)
}
