package watch

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
)

// TestWhatBelongsTogetherIsMeasuredTogether holds what sums there are of which things, and that what tells nothing is not in them.
func TestWhatBelongsTogetherIsMeasuredTogether(t *testing.T) {
	t.Parallel()
	k := &known{things: map[string]*measure.Thing{}, nodes: map[string]alarm.Node{}, rests: map[string]string{}, works: map[int64]bool{2: true}}
	machine := func(key, site, tier string, deployment int64) {
		k.add(measure.Thing{Key: key, Kind: measure.OfInstance, Name: key, Site: site, Deployment: deployment, Of: "river", Tier: tier, Service: "The " + tier}, alarm.Node{Rank: alarm.Instance})
	}
	machine("a", "vega", "map", 1)
	machine("b", "presa", "map", 1)
	machine("c", "vega", "store", 1)
	machine("d", "vega", "only", 2)
	machine("e", "vega", "only", 2)
	machine("nobody's", "presa", "", 0)
	for _, key := range []string{"a http", "b http"} {
		k.add(measure.Thing{Key: key, Kind: measure.OfEndpoint, Name: key, Deployment: 1, Of: "river", Tier: "map", Service: "The map"}, alarm.Node{})
	}
	k.join()
	var names []string
	for _, w := range k.wholes {
		names = append(names, w.thing.Key+": "+w.thing.Name)
		assert.Equal(t, alarm.Whole, k.nodes[w.thing.Key].Rank)
		assert.Empty(t, k.nodes[w.thing.Key].On)
	}
	assert.Equal(t, []string{"whole d1: all of river", "whole d1/map: all of The map", "whole d2: all of river", "whole site presa: all at presa", "whole site vega: all at vega"}, names,
		"a tier of one machine, and the only tier, say nothing new")
	assert.Equal(t, map[string]string{"whole d2": underWay}, k.rests, "nothing is wrong with what a run works on")

	r := &round{of: map[string]*figures{}}
	for key, cores := range map[string]float64{"a": 1, "b": 2, "c": 4, "nobody's": 8} { // of d and e nothing is told
		r.put(key, measure.CoresUsed, cores)
		r.put(key, measure.CoresHeld, 2*cores)
	}
	r.put("a", measure.On, 1)
	r.put("b", measure.On, 0)
	r.put("a http", measure.Answers, 1)
	r.put("a http", measure.AnswerTime, 0.02)
	r.put("b http", measure.Answers, 0)
	r.together(k)
	of := func(key string) map[string]float64 {
		if f := r.of[key]; f != nil {
			return f.values
		}
		return nil
	}
	assert.Equal(t, map[string]float64{measure.WholeCores: 3, measure.WholeCoresHeld: 6, measure.WholeOn: 1, measure.WholeAnswers: 0.5, measure.WholeSlowest: 0.02}, of("whole d1/map"))
	assert.Equal(t, map[string]float64{measure.WholeCores: 7, measure.WholeCoresHeld: 14, measure.WholeOn: 1, measure.WholeAnswers: 0.5, measure.WholeSlowest: 0.02}, of("whole d1"))
	assert.Equal(t, map[string]float64{measure.WholeCores: 10, measure.WholeCoresHeld: 20, measure.WholeOn: 0}, of("whole site presa"))
	assert.Nil(t, of("whole d2"))
	m := measure.Of(measure.WholeAnswers)
	assert.True(t, m.Answering())
	all := []measure.Thing{*k.things["a"], *k.things["whole d1"], *k.things["whole d1/map"]}
	all[0].Name = "map-host"
	found, err := Find(all, "map")
	assert.NoError(t, err)
	assert.Equal(t, "a", found.Key, "a machine is meant before all to which it belongs")
	found, err = Find(all, "all of The map")
	assert.NoError(t, err)
	assert.Equal(t, "whole d1/map", found.Key)
}
