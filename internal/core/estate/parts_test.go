package estate

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func loaded(t *testing.T) *Estate {
	t.Helper()
	e, err := Read([]byte(scenario(t)))
	require.NoError(t, err)
	return e
}

func TestPricesByPaymentAndDestination(t *testing.T) {
	e := loaded(t)
	size := e.Site("tramonta").Sizes[0]
	for payment, want := range map[Payment]float64{"": 0.1, Hourly: 0.1, Reserved1: 0.068, Reserved3: 0.045} {
		got, offered := size.Price(payment)
		assert.Equal(t, want, got, payment)
		assert.True(t, offered)
	}
	_, offered := e.Site("presa").Sizes[0].Price(Reserved3)
	assert.False(t, offered, "nobody reserves at the dam")
	norte := e.Site("alisio-norte")
	assert.Zero(t, norte.EgressTo(norte))
	assert.Equal(t, 0.004, norte.EgressTo(e.Site("alisio-sur")), "within the provider")
	assert.Equal(t, 0.02, norte.EgressTo(e.Site("vega")))
	assert.Equal(t, 0.02, norte.EgressTo(nil), "to nowhere in particular")
	norte.Prices.Egress["vega"] = 0.5
	assert.Equal(t, 0.5, norte.EgressTo(e.Site("vega")), "a site's own price comes first")
	assert.Zero(t, e.Site("vega").EgressTo(norte))
}

func TestDisksAndDistances(t *testing.T) {
	e := loaded(t)
	vega := e.Site("vega")
	for class, want := range map[string]float64{"": 0.0004, "fast": 0.0009, "archive": 0.0001} {
		got, ok := vega.DiskPrice(class)
		assert.True(t, ok)
		assert.Equal(t, want, got, class)
	}
	_, ok := vega.DiskPrice("gold")
	assert.False(t, ok)
	for pair, want := range map[[2]string]float64{{"presa", "vega"}: 6, {"vega", "presa"}: 6, {"tramonta", "alisio-sur"}: 33, {"vega", "vega"}: 0} {
		ms, known := Distance(e.Site(pair[0]), e.Site(pair[1]))
		assert.True(t, known)
		assert.Equal(t, want, ms, pair)
	}
	_, known := Distance(&Site{Name: "a"}, &Site{Name: "b"})
	assert.False(t, known)
	assert.Equal(t, 0.4, vega.ZoneMs("b", "a"))
	assert.Zero(t, vega.ZoneMs("a", "a"))
}

func TestRoomsPoolsAndImages(t *testing.T) {
	e := loaded(t)
	rooms := e.Site("vega").Rooms()
	require.Len(t, rooms, 4)
	assert.Equal(t, "zone b, b-2", rooms[3].Name())
	assert.Equal(t, Capacity{Cores: 11, MemoryGiB: 40, DiskGiB: 1000}, rooms[3].Used())
	assert.Equal(t, Capacity{Cores: 61, MemoryGiB: 256, DiskGiB: 8500}, e.Site("vega").Free(), "its four hosts together")
	assert.Equal(t, "zone m", e.Site("tramonta").Rooms()[0].Name())
	assert.True(t, Room{Free: Capacity{Cores: 3}}.Used().IsZero(), "of what total is not known nothing is known to be used")
	free, all := e.Site("vega").Addresses()
	assert.Equal(t, [2]int{495, 497}, [2]int{free, all})
	free, all = e.Site("vega").VLANs()
	assert.Equal(t, [2]int{59, 61}, [2]int{free, all})
	pool := Pool{From: "10.0.0.250", To: "10.0.1.3"}
	assert.Equal(t, 10, pool.Size())
	assert.True(t, pool.Contains(netip.MustParseAddr("10.0.1.0")))
	assert.False(t, pool.Contains(netip.MustParseAddr("10.0.1.4")))
	for _, bad := range []Pool{{From: "x", To: "10.0.0.1"}, {From: "10.0.0.9", To: "10.0.0.1"}, {From: "::1", To: "::9"}} {
		assert.Zero(t, bad.Size())
	}
	s := &Site{Images: []Image{{Name: "plain", OS: "linux"}, {Name: "big", OS: "linux", Capabilities: []string{"containers", "tpm"}}}}
	assert.Equal(t, "plain", s.Image("linux", Release{}).Name)
	assert.Equal(t, "big", s.Image("", Release{}, "tpm").Name)
	assert.Nil(t, s.Image("linux", Release{}, "tpm", "sgx"))
}

func TestEveryPartIsChecked(t *testing.T) {
	good := scenario(t)
	for change, says := range map[[2]string]string{
		{`"from": "10.4.1.10"`, `"from": "10.4.9.10"`}:                    `sites[0].networks[0].pools[0]: "10.4.9.10" to "10.4.1.40" is no range`,
		{`"taken": ["10.20.4.10"`, `"taken": ["10.99.4.10"`}:              `"10.99.4.10" is not in the pool`,
		{`"from": 200, "to": 260`, `"from": 0, "to": 260`}:                "vlans: 0 to 260 is no range within 1 to 4094",
		{`"EUR": 0.92`, `"EUR": 0`}:                                       "currencies.EUR: 0 is not above 0",
		{`{"vega": 6`, `{"vega": -6`}:                                     "sites[0].distances_ms.vega: -6 is negative",
		{`"limit": 80, "used": 6`, `"limit": -80, "used": 6`}:             "quotas.instances: -80 is negative",
		{`"egress_gib": {"alisio": 0.004`, `"egress_gib": {"alisio": -1`}: "prices.egress_gib.alisio: -1 is negative",
	} {
		text := strings.Replace(good, change[0], change[1], 1)
		require.NotEqual(t, good, text, change[0])
		_, err := Read([]byte(text))
		if assert.Error(t, err, change[1]) {
			assert.Contains(t, err.Error(), says)
		}
	}
	e := loaded(t)
	e.Sites[1].Zones[0].Hosts[1].Name = "a-1"
	e.Sites[2].Zones[0].Free.Cores = 9999
	e.Sites[3].Zones[1].Name = "1"
	err := e.Check()
	for _, want := range []string{"sites[1]: zone a, a-1 is there twice", "sites[2]: zone 1 has more free than it is in total", `sites[3].zones[1].name: "1" is empty or used twice`} {
		assert.ErrorContains(t, err, want)
	}
}

func TestExtrasCount(t *testing.T) {
	room := Capacity{Cores: 4, Extra: map[string]float64{"accelerators": 2}}
	need := Capacity{Cores: 1, Extra: map[string]float64{"accelerators": 1}}
	assert.True(t, room.Fits(need))
	left := room.Minus(need).Minus(need)
	assert.False(t, left.Fits(need))
	assert.Equal(t, 2.0, room.Extra["accelerators"], "what is taken is taken from a copy")
	assert.Equal(t, "2 cores, 0 GiB memory, 0 GiB disk, 0 accelerators", left.String())
	assert.Equal(t, "extra.accelerators", left.Minus(need).negative())
	assert.False(t, Capacity{Cores: 9}.Fits(need), "none is less than one")
}
