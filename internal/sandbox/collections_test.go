package sandbox

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
)

// ownMixin is a mixin of a client's own, as a text rendering has it.
const ownMixin = "Category: gauges; scheme=\"http://ribera.test/tags#\"; class=\"mixin\"\n"

// TestCollectionsAreTheProtocols drives collections with curl: ids of a client's, URIs, filters, mixins with what has them, and what all do together.
func TestCollectionsAreTheProtocols(t *testing.T) {
	room := estate.Capacity{Cores: 8, MemoryGiB: 8, DiskGiB: 80}
	hall := &estate.Site{Name: "hall", Kind: estate.Private, Network: estate.Ports, Pace: 1, Sizes: []estate.Size{{Name: "s", Cores: 1, MemoryGiB: 1}, {Name: "m", Cores: 2, MemoryGiB: 2}},
		Images: []estate.Image{{Name: "i", OS: "linux"}}, Zones: []estate.Zone{{Name: "a", Free: room, Total: room}}}
	box, err := Start(Config{Estate: &estate.Estate{Currency: "cr", Sites: []*estate.Site{hall}}, Pace: 0.001, Seed: 1})
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	at := box.Endpoints[0]
	ask := func(want, method, where string, args ...string) string {
		t.Helper()
		status, text := curl(t, at.Token, append([]string{"-X", method, at.URL + where}, args...)...)
		require.Equal(t, want, status, "%s %s: %s", method, where, text)
		return text
	}
	plain := []string{"-H", "Accept: text/plain"}
	body := func(text string) []string {
		return []string{"-H", "Content-Type: application/occi+json", "--data", text}
	}
	disk := func(size string) []string {
		return body(`{"kind":"http://schemas.ogf.org/occi/infrastructure#storage","title":"levels","attributes":{"occi.storage.size":` + size + `}}`)
	}
	machine := func(size string) []string {
		return body(`{"kind":"http://schemas.ogf.org/occi/infrastructure#compute","mixins":["https://schemas.andamio.example/occi/images#i","https://schemas.andamio.example/occi/sizes#` + size + `"]}`)
	}

	// an id of the client's, which is told as a URI and taken as one
	ask("201", "PUT", "/storage/levels-1", disk("2")...)
	assert.Contains(t, ask("200", "GET", "/storage/levels-1"), `"id":"`+at.URL+`/storage/levels-1"`)
	ask("200", "PUT", "/storage/levels-1", disk("3")...)
	assert.Contains(t, ask("200", "GET", "/storage/levels-1", plain...), "occi.storage.size=3\n")
	ask("201", "PUT", "/storage/levels-2", disk("4")...)
	ask("400", "PUT", "/storage/Levels..2", disk("4")...)
	ask("400", "PUT", "/storage/other", body(`{"kind":"http://schemas.ogf.org/occi/infrastructure#network"}`)...)
	ask("201", "PUT", "/compute/gauge-1", machine("s")...)
	ask("201", "PUT", "/compute/gauge-2", machine("m")...)

	// a collection is what it is without the stroke at its end too
	assert.Contains(t, ask("200", "GET", "/storage", "-H", "Accept: text/uri-list"), "/storage/levels-1")
	ask("200", "GET", "/-")
	ask("200", "GET", "/mixin/sizes.s")

	// filters, by parameters and by header fields
	only := func(where string, want []string, args ...string) {
		t.Helper()
		text := ask("200", "GET", where, append(args, "-H", "Accept: text/uri-list")...)
		_, list, _ := strings.Cut(text, "\n\n")
		assert.ElementsMatch(t, want, strings.Fields(strings.ReplaceAll(list, at.URL, "")), where)
	}
	only("/storage/?attribute=occi.storage.size=3", []string{"/storage/levels-1"})
	only("/storage/?attribute=occi.storage.size=9", nil)
	only("/storage/", []string{"/storage/levels-2"}, "-H", "Content-Type: text/occi", "-H", "X-OCCI-Attribute: occi.storage.size=4")
	only("/compute/?category=https%3A%2F%2Fschemas.andamio.example%2Focci%2Fsizes%23m", []string{"/compute/gauge-2"})
	only("/compute/", []string{"/compute/gauge-1"}, "-H", "Content-Type: text/occi", "-H", `Category: s; scheme="https://schemas.andamio.example/occi/sizes#"; class="mixin"`)
	ask("400", "GET", "/compute/?category=http%3A%2F%2Fnone.test%23x")
	ask("400", "GET", "/compute/?attribute=alone")

	// the collection of a mixin that there is
	assert.Contains(t, ask("200", "GET", "/-/", plain...), `s; scheme="https://schemas.andamio.example/occi/sizes#"; class="mixin"; rel="http://schemas.ogf.org/occi/infrastructure#resource_tpl"; location="/mixin/sizes.s/"`)
	only("/mixin/sizes.m/", []string{"/compute/gauge-2"})
	ask("404", "GET", "/mixin/sizes.xxl/")
	locations := func(names ...string) []string {
		text := ""
		for _, n := range names {
			text += "X-OCCI-Location: " + at.URL + n + "\n"
		}
		return []string{"-H", "Content-Type: text/plain", "--data-binary", text}
	}
	ask("403", "POST", "/mixin/sizes.m/", locations("/compute/gauge-1")...)

	// a mixin of the client's own
	define := []string{"-H", "Content-Type: text/plain", "--data-binary", ownMixin}
	ask("204", "POST", "/-/", define...)
	ask("409", "POST", "/-/", define...)
	ask("400", "POST", "/-/", body(`{"mixins":[{"term":"x","scheme":"http://ribera.test/no-sign"}]}`)...)
	assert.Contains(t, ask("200", "GET", "/-/", plain...), `gauges; scheme="http://ribera.test/tags#"; class="mixin"; location="/mixin/tags.gauges/"`)
	ask("204", "POST", "/mixin/tags.gauges/", locations("/compute/gauge-1", "/storage/levels-1")...)
	only("/mixin/tags.gauges/", []string{"/compute/gauge-1", "/storage/levels-1"})
	ask("204", "PUT", "/mixin/tags.gauges/", locations("/compute/gauge-1", "/compute/gauge-2")...)
	only("/mixin/tags.gauges/", []string{"/compute/gauge-1", "/compute/gauge-2"})
	ask("204", "DELETE", "/mixin/tags.gauges/", locations("/compute/gauge-1")...)
	only("/mixin/tags.gauges/", []string{"/compute/gauge-2"})
	ask("404", "POST", "/mixin/tags.gauges/", locations("/compute/none")...)
	ask("400", "POST", "/mixin/tags.gauges/", "-H", "Content-Type: text/plain", "--data-binary", ownMixin)

	// what all of a collection do
	active := func(id string) bool {
		return strings.Contains(ask("200", "GET", "/compute/"+id), `"occi.compute.state":"active"`)
	}
	require.Eventually(t, func() bool { return active("gauge-1") && active("gauge-2") }, 20*time.Second, 20*time.Millisecond)
	stop := []string{"-H", "Content-Type: text/plain", "--data-binary", "Category: stop; scheme=\"http://schemas.ogf.org/occi/infrastructure/compute/action#\"; class=\"action\"\n"}
	ask("200", "POST", "/mixin/tags.gauges/?action=stop", stop...)
	assert.True(t, active("gauge-1"), "it has the mixin no more")
	assert.False(t, active("gauge-2"))
	ask("200", "POST", "/compute/?action=stop", stop...)
	assert.False(t, active("gauge-1"), "all that can do it do")
	ask("409", "POST", "/compute/?action=stop", stop...)

	ask("204", "DELETE", "/-/", define...)
	ask("404", "GET", "/mixin/tags.gauges/")
	assert.NotContains(t, ask("200", "GET", "/compute/gauge-2"), "tags#gauges", "who had it has it no more")
	ask("403", "DELETE", "/-/", "-H", "Content-Type: text/plain", "--data-binary", "Category: ssh_key; scheme=\"http://schemas.ogf.org/occi/infrastructure/credentials#\"; class=\"mixin\"\n")
}
