package sites

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/app"
	"andamio/internal/service/templates"
	"andamio/internal/service/workers"
	"andamio/internal/service/workspace"
)

// TestSitesSayThroughWhomTheyAreReached has sites that are reached through workers, by some of which they are not, and those that nobody reaches.
func TestSitesSayThroughWhomTheyAreReached(t *testing.T) {
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	e.Sites = e.Sites[:2] // the others do not answer
	v := New(t.Context(), nil)
	v.Update(offered{e})
	v.Update(lookedUp{connections: []workspace.Connection{{Site: "presa", Kind: "edge", Through: "dam"}, {Site: "vega", Kind: "private", Through: "hall"}, {Site: "alisio-norte", Kind: "public", Through: "mainland"},
		{Site: "tramonta", Kind: "public"}},
		surveys: map[string]app.Survey{"tramonta": {Site: "tramonta", Started: now.Add(-time.Hour), Ended: now.Add(-time.Hour), State: "done"}},
		workers: []app.Worker{
			{Pool: "dam", Name: "one", Since: now.Add(-2 * time.Hour), Sites: map[string]workers.Reached{"presa": {Seconds: 0.0031}}},
			{Pool: "dam", Name: "two", Since: now.Add(-time.Minute)},
			{Pool: "dam", Name: "three", Sites: map[string]workers.Reached{"presa": {Failed: "refused"}}},
			{Pool: "hall", Name: "four", Sites: map[string]workers.Reached{"vega": {Failed: "refused"}}}}})
	text := drawn(v, 160, 43)
	assert.Contains(t, text, "2 of 4 sites")
	assert.Contains(t, text, "through dam: one 3.1 ms, joined 2h00m ago")
	assert.Contains(t, text, "through dam: two, joined 1m ago, not measured yet")
	assert.NotContains(t, text, "three", "who does not reach it, where others do")
	assert.Regexp(t, `vega +private +✕ no worker reaches it +a · a-1`, text)
	assert.Regexp(t, `alisio-norte +public +✕ does not answer +through mainland, and no worker of it is there; steps wait 10 min`, text)
	assert.Regexp(t, `tramonta +public +✕ does not answer +surveyed 1h`, text)
	assert.NotContains(t, text, "alisio-sur", "which is not connected")
	names := func(site string) (out []string) {
		for _, a := range v.reachActs(site) {
			out = append(out, a.Name)
		}
		return out
	}
	assert.Equal(t, []string{"reach presa through hall", "reach presa from here"}, names("presa"), "each way but the one that it is reached by")
	assert.Equal(t, []string{"reach tramonta through dam", "reach tramonta through hall"}, names("tramonta"))
	assert.Equal(t, []string{"reach alisio-norte through dam", "reach alisio-norte through hall", "reach alisio-norte from here"}, names("alisio-norte"))
	v.at = 1
	assert.Contains(t, drawn(v, 160, 43), "through hall, and not reached by four")
	small := drawn(v, 80, 24)
	assert.Regexp(t, `alisio-norte +public +✕ does not answer +through mainland`, small)
}
