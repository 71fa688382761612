package mapping_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
)

func compute(raw map[string]string) *mapping.Observation {
	return &mapping.Observation{Site: "vega", Region: "a", Account: "bot", Type: "compute", ID: "i-1", Name: "gauge", State: "active",
		Mark: "andamio d1 gauge/create #7", Mixins: []string{"https://x/images#debian-12", "https://x/sizes#s4"}, Raw: raw}
}

// shipped is the mapping of the usual driver, over what every mapping goes over.
func shipped(t *testing.T) *mapping.File {
	t.Helper()
	text, err := os.ReadFile("../../site/occi/mapping.yaml")
	require.NoError(t, err)
	f, err := mapping.Read(text)
	require.NoError(t, err)
	return f.Over(mapping.Default())
}

// TestAMappingIsForSomeSites leaves sites out, for which what it goes over counts.
func TestAMappingIsForSomeSites(t *testing.T) {
	f := shipped(t).Except([]string{"presa", "vega"})
	_, taken, err := f.Record(compute(nil))
	require.NoError(t, err)
	assert.False(t, taken)
	_, taken, err = f.Over(shipped(t).Except([]string{"presa"})).Record(compute(nil))
	require.NoError(t, err)
	assert.True(t, taken)
}

func TestTheShippedMappingMakesAnInstance(t *testing.T) {
	r, taken, err := shipped(t).Record(compute(map[string]string{"occi.compute.cores": "4", "occi.compute.memory": "16", "andamio.tag.owner": "maps"}))
	require.NoError(t, err)
	require.True(t, taken)
	assert.Equal(t, inventory.Record{ID: "vega/i-1", Class: kinds.Instance, Name: "gauge", Site: "vega", Region: "a", Provider: "i-1",
		Mark: "andamio d1 gauge/create", Origin: inventory.Origin{Account: "bot"},
		Attributes: map[string]string{"state": "active", "cores": "4", "memory_gib": "16", "size": "s4", "image": "debian-12", "tag.owner": "maps"}}, r)
}

// TestUnitsAreConverted takes memory in every way in which sites tell it.
func TestUnitsAreConverted(t *testing.T) {
	for _, c := range []struct{ attribute, unit, raw, want string }{
		{"memory_gib", "MiB", "512", "0.5"}, {"memory_gib", "GiB", "16", "16"}, {"memory_gib", "GB", "16", "14.901161193847656"},
		{"memory_gib", "MiB", "2 GiB", "2"}, {"disk_gib", "TiB", "1.5", "1536"}, {"timeout_seconds", "m", "2", "120"}, {"clock_mhz", "GHz", "2.5", "2500"},
		{"cores", "", "04", "04"}, {"cores", "", "4.0", "4"}, {"name2", "", "1e5", "1e5"}, {"x", "", "", ""},
	} {
		text := "version: andamio.mapping/1\nclasses:\n  - type: compute\n    class: instance\n    attributes:\n      " + c.attribute + ": {from: raw"
		if c.unit != "" {
			text += ", unit: " + c.unit
		}
		f, err := mapping.Read([]byte(text + "}\n"))
		require.NoError(t, err, c.attribute)
		r, _, err := f.Record(compute(map[string]string{"raw": c.raw}))
		require.NoError(t, err)
		assert.Equal(t, c.want, r.Attributes[c.attribute], "%+v", c)
	}
}

func TestMistakesAreAllNamed(t *testing.T) {
	_, err := mapping.Read([]byte(`
version: andamio.mapping/1
classes:
  - class: instance
    when: 'state + 1'
    attributes:
      cores: {from: a, value: 'b'}
      memory: {from: m, unit: MiB}
      memory_gib: {from: m, unit: parsec}
      size: {value: 'nothing.there'}
  - type: disk
    into: middle
authority: {cores: everybody}
`))
	require.Error(t, err)
	for _, says := range []string{"classes[0].type: is missing", "classes[0].when", "attributes.cores: has either from or value",
		"attributes.memory: unit MiB: the name does not say", "attributes.memory_gib", "attributes.size", `into: "middle" is neither`, "authority.cores"} {
		assert.ErrorContains(t, err, says)
	}
	_, err = mapping.Read([]byte("version: other/1\n"))
	assert.ErrorContains(t, err, "Andamio reads")
	_, err = mapping.Read([]byte("version: andamio.mapping/1\nklasses: []\n"))
	assert.ErrorContains(t, err, "klasses")
}

// TestAnOwnEntryComesFirst gives machines of one site another class, and a serial number.
func TestAnOwnEntryComesFirst(t *testing.T) {
	own, err := mapping.Read([]byte(`
version: andamio.mapping/1
classes:
  - type: compute
    site: vega
    when: 'raw["bare"] == "yes"'
    class: hardware
    serial: serial.number
    attributes:
      rack: {value: 'last(raw["place"], "/")'}
      power_watt: {value: 'number(raw["kw"]) * 1000.0'}
authority: {hardware.rack: observed}
`))
	require.NoError(t, err)
	f := own.Over(shipped(t))
	r, taken, err := f.Record(compute(map[string]string{"bare": "yes", "place": "hall/row 2/rack 7", "kw": "1.5", "serial.number": "SN-1"}))
	require.NoError(t, err)
	require.True(t, taken)
	assert.Equal(t, kinds.Hardware, r.Class)
	assert.Equal(t, "SN-1", r.Serial)
	assert.Equal(t, "rack 7", r.Attributes["rack"])
	assert.Equal(t, "1500", r.Attributes["power_watt"])
	r, _, err = f.Record(compute(map[string]string{"bare": "no"}))
	require.NoError(t, err)
	assert.Equal(t, kinds.Instance, r.Class, "others are what they were")
	assert.Equal(t, inventory.ByObserved, f.Authority["hardware.rack"])

	_, _, err = f.Record(compute(map[string]string{"bare": "yes", "kw": "much"}))
	assert.ErrorContains(t, err, "attribute power_watt")
}

func TestLinksGoIntoWhatTheyLink(t *testing.T) {
	records, errs := shipped(t).Records([]mapping.Observation{
		{Site: "vega", Type: "storage", ID: "v-1", Name: "data", State: "active", Raw: map[string]string{"occi.storage.size": "80"}},
		{Site: "vega", Type: "storagelink", ID: "l-1", Source: "i-1", Target: "v-1"},
		{Site: "vega", Type: "somethingnew", ID: "x"},
	})
	require.Empty(t, errs)
	require.Len(t, records, 1)
	assert.Equal(t, "i-1", records[0].Attributes["attached_to"])
}
