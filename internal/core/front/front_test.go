package front

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/condition"
)

const text = `version: andamio.fronts/1
zone: near.ribera.test
servers: [ns1.ribera.test, ns2.ribera.test]
ttl: 5s
regions:
- { name: upper basin, networks: [10.1.0.0/16], near: presa }
- { name: harbour, networks: [10.2.0.0/16, "2001:db8:2::/48"], near: alisio, distances: { vega: 3 } }
- { name: school, networks: [10.1.7.0/24], distances: { vega: 1, alisio: 50 } }
fronts:
- name: map
  when: '"map" in deployment.services'
  endpoint: river-map.app_endpoint
  weights: { vega: 3, tramonta: 0 }
  full: 80%
  slow_start: 2m
  answers: 1
  plain: map
`

func read(t testing.TB, text string) *File {
	f, err := Read([]byte(text))
	require.NoError(t, err)
	return f
}

func TestAFileOfFrontsIsRead(t *testing.T) {
	f := read(t, text)
	assert.Equal(t, 5*time.Second, f.Keeps())
	x := &f.Fronts[0]
	assert.Equal(t, 10, x.Line)
	assert.True(t, x.Means("river-map", "app_endpoint"))
	assert.False(t, x.Means("river-map", "admin"))
	assert.False(t, x.Means("map", "app_endpoint"))
	x.Endpoint = "door"
	assert.True(t, x.Means("door.balancer", "client"), "what stands for a node is meant by its name")
	assert.False(t, x.Means("doorway", "client"))
	for _, exact := range []string{"door.client", "door.balancer", "door.balancer.client"} {
		x.Endpoint = exact
		assert.True(t, x.Means("door.balancer", "client"), exact)
	}
	assert.False(t, x.Means("door.balancer", ""), "an endpoint is asked for")
	x.Endpoint = "river-map"
	assert.True(t, x.Means("river-map", "admin"))
	fits, err := x.Fits(&condition.Subject{Services: []string{"map"}})
	require.NoError(t, err)
	assert.True(t, fits)
	small := read(t, "version: andamio.fronts/1\nzone: near.ribera.test.\nservers: [ns1.ribera.test]\nfronts: [{ name: map, endpoint: river-map }]")
	assert.Equal(t, "near.ribera.test", small.Zone)
	assert.Equal(t, []any{10 * time.Second, 2, time.Minute}, []any{small.Keeps(), small.Fronts[0].Answers, small.Fronts[0].slowStart})
}

func TestMistakesOfAFileAreSaid(t *testing.T) {
	whole := func(top, front string) string {
		return "version: andamio.fronts/1\nzone: near.ribera.test\nservers: [ns1.ribera.test]\n" + top + "fronts:\n- { name: map, endpoint: river-map" + front + " }\n"
	}
	for body, says := range map[string]string{
		"version: andamio.fronts/2": "version", "fronts: 3": "these are no fronts",
		"version: andamio.fronts/1\nzone: Near_\nservers: [x]":                              `zone: "Near_" is no name`,
		"version: andamio.fronts/1\nzone: a.test":                                           "servers: say by which names",
		"version: andamio.fronts/1\nzone: a.test\nservers: ['x y']":                         `servers: "x y" is no name`,
		whole("ttl: 2h\n", ""):                                                              `ttl: "2h" is no time`,
		whole("ttl: 1ms\n", ""):                                                             `ttl: "1ms"`,
		whole("listen: ['53']\n", ""):                                                       `listen: "53" is no address and port`,
		whole("regions: [{ name: A, networks: [10.0.0.0/8], near: x }]\n", ""):              "regions[0]: name",
		whole("regions: [{ name: a, near: x }]\n", ""):                                      "regions[0]: networks: say",
		whole("regions: [{ name: a, networks: [ten], near: x }]\n", ""):                     `networks: "ten" is no network`,
		whole("regions: [{ name: a, networks: [10.0.0.0/8] }]\n", ""):                       "say near which site",
		whole("regions: [{ name: a, networks: [10.0.0.0/8], distances: { x: -1 } }]\n", ""): "distances: x is some milliseconds away",
		whole("regions: [{ name: a, networks: [10.0.0.0/8], near: x }, { name: a, networks: [11.0.0.0/8], near: x }]\n", ""): "regions[1]: another is called a",
		whole("regions: [{ name: a, networks: [10.0.0.0/8], distances: { x: 200000 } }]\n", ""):                              "distances: x is some milliseconds away",
		whole("", ", answers: 9"):                   "line 5, \"map\": answers: an answer has between 1 and 8",
		whole("", ", port: 70000"):                  "port: 70000 is no port",
		whole("", ", answers: -1"):                  "answers",
		whole("", ", full: 100%"):                   "full",
		whole("", ", full: high"):                   "full",
		whole("", ", slow_start: 3h"):               "slow_start",
		whole("", ", weights: { vega: -1 }"):        "weights: vega has a weight",
		whole("", ", plain: '_x'"):                  `plain: "_x" is no name`,
		whole("", ", when: deployment."):            "when: ",
		whole("", " }\n- { name: map, endpoint: x"): "line 6, \"map\": another one has the same name",
		whole("", " }\n- { name: a.b, endpoint: x"): "is no label",
		whole("", " }\n- { name: b"):                "endpoint: say which software",
	} {
		_, err := Read([]byte(body))
		require.ErrorContains(t, err, says, body)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(text), "10.1.7.9")
	f.Fuzz(func(t *testing.T, data []byte, client string) {
		file, err := Read(data)
		if err != nil {
			return
		}
		at, err := netip.ParseAddr(client)
		if err != nil {
			return
		}
		_, scope := file.Region(at)
		assert.LessOrEqual(t, scope, at.Unmap().BitLen())
	})
}

func TestClientsAreOfTheNarrowestRegion(t *testing.T) {
	f := read(t, text)
	for client, want := range map[string]string{
		"10.1.1.1": "upper basin 22", "10.1.7.9": "school 24", "10.2.200.1": "harbour 16", "10.3.0.1": " 16", "192.0.2.1": " 1", "2001:db8:2::9": "harbour 48", "2001:db8:3::9": " 48", "::ffff:10.2.0.1": "harbour 16",
	} {
		r, scope := f.Region(netip.MustParseAddr(client))
		name := ""
		if r != nil {
			name = r.Name
		}
		assert.Equal(t, want, fmt.Sprintf("%s %d", name, scope), client)
	}
}

// TestWhatIsAnsweredToOneIsSoForAllOfItsScope holds that whoever shares as many bits of an address as the scope says is of the same region: what a resolver keeps is never told to others.
func TestWhatIsAnsweredToOneIsSoForAllOfItsScope(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var regions []string
		for i := range rapid.IntRange(0, 6).Draw(t, "regions") {
			bits := rapid.IntRange(0, 32).Draw(t, "bits")
			at := netip.AddrFrom4([4]byte{byte(rapid.IntRange(0, 3).Draw(t, "a")), byte(rapid.IntRange(0, 3).Draw(t, "b")), byte(rapid.IntRange(0, 3).Draw(t, "c")), 1})
			regions = append(regions, fmt.Sprintf("{ name: r%d, networks: [%s], near: s }", i, netip.PrefixFrom(at, bits)))
		}
		f, err := Read([]byte("version: andamio.fronts/1\nzone: a.test\nservers: [b.test]\nregions: [" + strings.Join(regions, ", ") + "]\n"))
		require.NoError(t, err)
		address := rapid.Custom(func(t *rapid.T) netip.Addr {
			return netip.AddrFrom4([4]byte{byte(rapid.IntRange(0, 4).Draw(t, "a")), byte(rapid.IntRange(0, 4).Draw(t, "b")), byte(rapid.IntRange(0, 4).Draw(t, "c")), byte(rapid.IntRange(0, 3).Draw(t, "d"))})
		})
		one, other := address.Draw(t, "one"), address.Draw(t, "other")
		region, scope := f.Region(one)
		if p := netip.PrefixFrom(one, scope); p.Contains(other) {
			same, _ := f.Region(other)
			require.True(t, region == same, "%s and %s are both of %s", one, other, p.Masked())
		}
	})
}

var now = time.Date(2027, 3, 2, 12, 0, 0, 0, time.UTC)

func member(name, site string, up bool) Member {
	return Member{Name: name, Site: site, Up: up, Since: now.Add(-time.Hour), Address: netip.MustParseAddr("10.9.0.1"), Port: 80}
}

// shares says how often each is answered with first, in per cent.
func shares(f *Front, members []Member, away map[string]float64) map[string]int {
	r := rand.New(rand.NewPCG(1, 2))
	out := map[string]int{}
	for range 20_000 {
		if got := f.Choose(members, away, now, r.Float64); len(got) > 0 {
			out[got[0].Name]++
		}
	}
	for k, n := range out {
		out[k] = (n + 100) / 200
	}
	return out
}

func TestTheNearestThatIsWellIsAnsweredWith(t *testing.T) {
	f := &read(t, text).Fronts[0]
	away := map[string]float64{"presa": 0, "vega": 4, "alisio": 4.5, "tramonta": 20}
	v, v2, a, p, x, q := member("v", "vega", true), member("v2", "vega", true), member("a", "alisio", true), member("p", "presa", true), member("x", "tramonta", true), member("q", "unknown", true)
	full := func(m Member, load float64) Member { m.Load = load; return m }
	young := func(m Member, age time.Duration) Member { m.Since = now.Add(-age); return m }
	down := func(m Member) Member { m.Up = false; return m }
	for name, c := range map[string]struct {
		members []Member
		want    map[string]int
	}{
		"the nearest":                          {[]Member{a, v, p, x}, map[string]int{"p": 100}},
		"the next, where it is down":           {[]Member{a, v, down(p), x}, map[string]int{"v": 75, "a": 25}},
		"of two at a site half each":           {[]Member{v, v2}, map[string]int{"v": 50, "v2": 50}},
		"a spare, where nothing else is":       {[]Member{down(a), down(v), x}, map[string]int{"x": 100}},
		"no spare otherwise":                   {[]Member{q, x}, map[string]int{"q": 100}},
		"what is far by nobody knows how much": {[]Member{q, down(v)}, map[string]int{"q": 100}},
		"all, where nothing is up":             {[]Member{down(v), down(v2)}, map[string]int{"v": 50, "v2": 50}},
		"half of what is too much spills over": {[]Member{full(p, 0.9), v}, map[string]int{"p": 50, "v": 50}},
		"it stays where it is not full":        {[]Member{full(p, 0.8), v}, map[string]int{"p": 100}},
		"nearly all of it spills over":         {[]Member{full(p, 1), v}, map[string]int{"p": 2, "v": 98}},
		"where all are full the nearest":       {[]Member{full(p, 1), full(v, 1)}, map[string]int{"p": 100}},
		"slowly what has just come up":         {[]Member{v, young(v2, 30*time.Second)}, map[string]int{"v": 80, "v2": 20}},
		"a tenth at least":                     {[]Member{v, young(v2, 0)}, map[string]int{"v": 91, "v2": 9}},
		"nobody":                               {nil, map[string]int{}},
	} {
		t.Run(name, func(t *testing.T) {
			got := shares(f, c.members, away)
			for k, n := range c.want {
				assert.InDelta(t, n, got[k], 2, "%v", got)
			}
			assert.Len(t, got, len(c.want), "%v", got)
		})
	}
	assert.Equal(t, map[string]int{"v": 60, "a": 20, "p": 20}, shares(f, []Member{v, a, p, x}, nil), "of clients of which nothing is known")
}

func TestAddressesAloneAreOfThePortThatIsExpected(t *testing.T) {
	at := func(name string, port uint16) Member { m := member(name, "vega", true); m.Port = port; return m }
	names := func(f Front, members ...Member) (out []string) {
		for _, m := range f.Expected(members) {
			out = append(out, m.Name)
		}
		return out
	}
	assert.Equal(t, []string{"a", "c"}, names(Front{}, at("a", 8443), at("b", 20293), at("c", 8443)))
	assert.Equal(t, []string{"b"}, names(Front{Port: 20293}, at("a", 8443), at("b", 20293)))
	assert.Equal(t, []string{"a"}, names(Front{}, at("b", 20293), at("a", 8443)), "of as many the lower one")
	assert.Empty(t, names(Front{Port: 80}, at("a", 8443)))
	assert.Empty(t, names(Front{}))
}

// TestWhoIsDownIsNeverAnsweredWith holds that of whatever members those alone are answered with that are up, as many as an answer has and each once; all, where none is.
func TestWhoIsDownIsNeverAnsweredWith(t *testing.T) {
	sites := []string{"vega", "alisio", "presa", "tramonta"}
	rapid.Check(t, func(t *rapid.T) {
		f := Front{Answers: rapid.IntRange(1, 4).Draw(t, "answers"), full: rapid.SampledFrom([]float64{0, 0.5, 0.8}).Draw(t, "full"), slowStart: time.Minute, Weights: map[string]float64{"vega": rapid.Float64Range(0, 3).Draw(t, "weight")}}
		var members []Member
		some := false
		for i := range rapid.IntRange(0, 8).Draw(t, "members") {
			m := member(fmt.Sprint(i), rapid.SampledFrom(sites).Draw(t, "site"), rapid.Bool().Draw(t, "up"))
			m.Load, m.Since = rapid.Float64Range(0, 1.2).Draw(t, "load"), now.Add(-time.Duration(rapid.IntRange(-5, 100).Draw(t, "age"))*time.Second)
			some = some || m.Up
			members = append(members, m)
		}
		away := map[string]float64{}
		for _, s := range sites[:rapid.IntRange(0, 4).Draw(t, "known")] {
			away[s] = rapid.Float64Range(0, 50).Draw(t, "away")
		}
		got := f.Choose(members, away, now, func() float64 { return rapid.Float64Range(0, 0.999).Draw(t, "chance") })
		require.Equal(t, len(members) > 0, len(got) > 0)
		require.LessOrEqual(t, len(got), f.Answers)
		seen := map[string]bool{}
		for _, m := range got {
			require.False(t, seen[m.Name])
			seen[m.Name] = true
			require.True(t, m.Up || !some)
		}
	})
}

func TestOneLostAnswerTakesNobodyOut(t *testing.T) {
	h := Health{Up: true, Since: now}
	at := now
	says := func(good bool) bool { at = at.Add(time.Second); return h.Step(good, at) }
	assert.False(t, says(false))
	assert.True(t, h.Doubted())
	assert.False(t, says(true))
	assert.False(t, h.Doubted())
	assert.False(t, says(false))
	assert.True(t, says(false))
	assert.Equal(t, Health{Up: false, Since: at}, h)
	assert.False(t, says(false))
	assert.False(t, says(true))
	assert.False(t, says(false))
	assert.False(t, says(true))
	assert.True(t, says(true))
	assert.Equal(t, Health{Up: true, Since: at}, h)
}

func TestATableIsReadAsItWasWritten(t *testing.T) {
	table := &Table{File: read(t, text), Members: map[string][]Member{"map": {member("v", "vega", true)}}, Between: map[string]map[string]float64{"presa": {"vega": 4}}, At: now}
	data, err := table.Write([]byte(text))
	require.NoError(t, err)
	back, err := ReadTable(data)
	require.NoError(t, err)
	assert.Equal(t, []any{table.Members, table.Between, table.At, "near.ribera.test"}, []any{back.Members, back.Between, back.At, back.File.Zone})
	assert.NotNil(t, back.Front("map"))
	assert.Nil(t, back.Front("other"))
	presa, _ := back.File.Region(netip.MustParseAddr("10.1.0.1"))
	assert.Equal(t, map[string]float64{"vega": 4}, back.Away(presa, back.Members["map"]))
	assert.Nil(t, back.Away(nil, nil))
	harbour, _ := back.File.Region(netip.MustParseAddr("10.2.0.1"))
	assert.Equal(t, map[string]float64{"vega": 3}, back.Away(harbour, back.Members["map"]), "what is said counts before what was measured")
	turned := &Table{File: back.File, Between: map[string]map[string]float64{"vega": {"presa": 7}}}
	assert.Equal(t, map[string]float64{"vega": 7, "presa": 0}, turned.Away(presa, []Member{member("v", "vega", true), member("p", "presa", true), member("q", "unknown", true)}), "as the other one measured it")
	for _, wrong := range []string{"", "{", `{"fronts": "nothing"}`} {
		_, err := ReadTable([]byte(wrong))
		require.Error(t, err)
	}
}

func ExampleFront_Choose() {
	f, _ := Read([]byte("version: andamio.fronts/1\nzone: near.ribera.test\nservers: [ns1.ribera.test]\nfronts: [{ name: map, endpoint: river-map, answers: 1 }]"))
	members := []Member{{Name: "far", Site: "alisio", Up: true}, {Name: "near", Site: "vega", Up: true}}
	for _, m := range f.Fronts[0].Choose(members, map[string]float64{"vega": 2, "alisio": 30}, time.Now(), rand.Float64) {
		fmt.Println(m.Name)
	}
	members[slices.IndexFunc(members, func(m Member) bool { return m.Name == "near" })].Up = false
	for _, m := range f.Fronts[0].Choose(members, map[string]float64{"vega": 2, "alisio": 30}, time.Now(), rand.Float64) {
		fmt.Println(m.Name)
	}
	// Output:
	// near
	// far
}
