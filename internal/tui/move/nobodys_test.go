package move

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/takeover"
	"andamio/internal/service/templates"
)

// TestWhatNobodyDeployedIsChosenToo: machines of nobody's are rows, also where nothing else stands, and it is said that they are taken over first.
func TestWhatNobodyDeployedIsChosenToo(t *testing.T) {
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	seen := func(id, name string) inventory.Record {
		r := inventory.Record{ID: "vega/" + id, Class: kinds.Instance, Site: "vega", Region: "a", Provider: id, Name: name}
		for k, v := range map[string]string{"state": "active", "cores": "1", "memory_gib": "2"} {
			r.Set(k, v)
		}
		return r
	}
	_, take, err := takeover.Plan(takeover.Input{Machines: []string{"vega/i-1", "vega/i-2"}, Seen: inventory.Records{seen("i-1", "well"), seen("i-2", "spring")}, Estate: e})
	require.NoError(t, err)
	v := New(t.Context(), nil)
	v.Update(gathered{estate: e, nobodys: take})
	text := drawn(v, 160, 43)
	for _, want := range []string{"nobody's: taken over first", "well", "spring", "not paired with vega"} {
		assert.Contains(t, text, want)
	}
	for _, size := range [][2]int{{80, 20}, {100, 30}} {
		small := drawn(v, size[0], size[1])
		assert.Contains(t, small, "taken over first", "%v", size)
		for _, l := range strings.Split(small, "\n") {
			assert.LessOrEqual(t, ansi.StringWidth(l), size[0])
		}
	}
	press(t, v, "space", "down", "space")
	deployment, ids := v.chosen()
	assert.ElementsMatch(t, []string{"vega/i-1", "vega/i-2"}, taking(&v.deployments[deployment], ids).Records, "they are taken by what their site knows them by")

	all := standing(t)
	all.Update(gathered{estate: e, deployments: all.deployments, nobodys: take})
	draft := draftOf(t, all, change.Warm)
	w := taking(&v.deployments[deployment], ids)
	all.takes = &w
	all.Update(drafted{draft: draft})
	assert.Contains(t, drawn(all, 160, 43), "taken over first")
	all.Update(gathered{estate: e})
	assert.Len(t, all.deployments, 0, "they are gone when nobody sees them any more")
}
