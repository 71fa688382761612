package estate

import (
	"os"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func scenario(t *testing.T) string {
	t.Helper()
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	return string(data)
}

func TestReadAndWriteAreInverse(t *testing.T) {
	e, err := Read([]byte(scenario(t)))
	require.NoError(t, err)
	data, err := e.Write()
	require.NoError(t, err)
	again, err := Read(data)
	require.NoError(t, err)
	assert.Equal(t, e, again)
	assert.Len(t, e.Sites, 5)
	assert.Nil(t, e.Site("nowhere"))
	assert.True(t, e.Site("alisio-norte").Has("elastic"))
	assert.Equal(t, "debian-12", e.Site("vega").Image("linux", Release{}).Name)
	assert.Nil(t, e.Site("vega").Image("plan9", Release{}))
}

func TestReadSaysWhatIsWrongAndWhere(t *testing.T) {
	good := scenario(t)
	for change, says := range map[[2]string]string{
		{`"andamio.estate/1"`, `"andamio.estate/7"`}:       `version: "andamio.estate/7"`,
		{`"kind": "edge"`, `"kind": "cellar"`}:             `sites[0].kind: "cellar"`,
		{`"network": "ports"`, `"network": "pigeons"`}:     `sites[0].network: "pigeons"`,
		{`"pace": 1.1`, `"pace": 0`}:                       `sites[0].pace`,
		{`"name": "vega"`, `"name": "presa"`}:              `sites[1].name: "presa" is empty or used twice`,
		{`"core": 0.035`, `"core": -1`}:                    `sites[1].prices.core: -1 is negative`,
		{`"free_form": true,`, ``}:                         `sites[1].sizes`,
		{`"title": "the dam house"`, `"titel": "the dam"`}: `unknown field "titel"`,
		{`"sites": [`, `"sites": [ null,`}:                 `sites[0]: empty`,
	} {
		text := strings.Replace(good, change[0], change[1], 1)
		require.NotEqual(t, good, text, change[0])
		_, err := Read([]byte(text))
		require.Error(t, err, change[1])
		assert.Contains(t, err.Error(), says)
	}
}

func TestCapacityArithmetic(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) Capacity {
			return Capacity{Cores: rapid.IntRange(0, 500).Draw(t, name+" cores"), MemoryGiB: float64(rapid.IntRange(0, 4096).Draw(t, name+" memory")),
				DiskGiB: float64(rapid.IntRange(0, 1<<20).Draw(t, name+" disk"))}
		}
		room, need := draw("room"), draw("need")
		if got := room.Minus(need).Plus(need); !reflect.DeepEqual(got, room) {
			t.Fatalf("%v taken and given back leaves %v of %v", need, got, room)
		}
		left := room.Minus(need)
		if fits := left.Cores >= 0 && left.MemoryGiB >= 0 && left.DiskGiB >= 0; fits != room.Fits(need) {
			t.Fatalf("%v in %v", need, room)
		}
	})
}

func TestGiBForPeople(t *testing.T) {
	for x, want := range map[float64]string{0.5: "0.5 GiB", 16: "16 GiB", 500: "500 GiB", 1024: "1 TiB", 1536: "1.5 TiB"} {
		assert.Equal(t, want, GiB(x))
	}
	assert.Equal(t, 24.0, (&Site{Pace: 1.2}).Seconds(20))
}
