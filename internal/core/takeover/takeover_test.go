package takeover

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/estate"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/migrate"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

func scenario(t *testing.T) *estate.Estate {
	t.Helper()
	data, err := os.ReadFile("../../../examples/flood-watch/estate.json")
	require.NoError(t, err)
	e, err := estate.Read(data)
	require.NoError(t, err)
	return e
}

func seen(class kinds.Kind, id, name string, pairs ...string) inventory.Record {
	r := inventory.Record{ID: "vega/" + id, Class: class, Site: "vega", Region: "a", Provider: id, Name: name}
	for i := 0; i < len(pairs); i += 2 {
		r.Set(pairs[i], pairs[i+1])
	}
	return r
}

// found is a machine with a volume, in two networks, and another in one of these.
func found(t *testing.T) Input {
	t.Helper()
	return Input{Machines: []string{"vega/i-1"}, Estate: scenario(t), Ports: []int{8080}, Attachments: []Attachment{{"presa", "a-0", "i-1", "v-1", "/elsewhere"}, {"vega", "a-9", "i-9", "v-1", ""}, {"vega", "a-2", "i-1", "v-unseen", ""}, {"vega", "a-1", "i-1", "v-1", "/data"}},
		Seen: inventory.Records{
			seen(kinds.Instance, "i-1", "Well of the Weir", "state", "active", "cores", "2", "memory_gib", "4", "disk_gib", "20", "zone", "a", "host", "a-1"),
			seen(kinds.Instance, "i-2", "other", "state", "active", "cores", "1", "memory_gib", "2"),
			seen(kinds.Instance, "i-3", "asleep", "state", "stopped", "cores", "1", "memory_gib", "2"),
			seen(kinds.Instance, "i-4", "unknown", "state", "active", "cores", "1"),
			seen(kinds.Instance, "i-5", "astray", "state", "active", "cores", "1", "memory_gib", "2"),
			seen(kinds.Volume, "v-1", "readings", "disk_gib", "8"),
			seen(kinds.Network, "n-1", "hand", "cidr", "10.77.0.0/24"),
			seen(kinds.Network, "n-2", "hand"),
			seen(kinds.Interface, "f-3", "eth0", "instance", "i-2", "network", "n-1"),
			seen(kinds.Interface, "f-1", "eth0", "instance", "i-1", "network", "n-1", "address", "10.77.0.20", "inside_address", "10.77.0.20", "mac", "02:00:00:00:00:01", "ports", "22,9100"),
			seen(kinds.Interface, "f-1b", "bridged", "instance", "i-1"),
			seen(kinds.Interface, "f-2", "eth1", "instance", "i-1", "network", "n-2"),
			seen(kinds.Interface, "f-3b", "bridged", "instance", "i-3"),
			seen(kinds.Interface, "f-5", "eth0", "instance", "i-5", "network", "n-unseen"),
		}}
}

func TestAMachineIsTakenWithWhatBelongsToIt(t *testing.T) {
	in := found(t)
	in.Machines = append(in.Machines, "vega/i-2")
	wanted, take, err := Plan(in)
	require.NoError(t, err)
	assert.Equal(t, "Well of the Weir", take.Name)
	var titles []string
	for _, r := range take.Resources {
		titles = append(titles, fmt.Sprintf("%s %s", r.Kind, r.ID))
	}
	assert.ElementsMatch(t, []string{"instance Well-of-the-Weir", "instance other", "volume readings", "network hand@vega", "network hand-2@vega", "interface Well-of-the-Weir.if",
		"interface Well-of-the-Weir.if-2", "interface other.if"}, titles, "a network once, two of a name each")
	finds := map[string]string{}
	for _, s := range take.Steps {
		if s.Op != op.Take {
			require.NotEmpty(t, s.Finds, "%s would build something", s.ID)
			finds[s.ID] = s.Finds
		}
	}
	assert.Equal(t, "a-1", finds["Well-of-the-Weir/attach:readings"])
	assert.Equal(t, "f-2", finds["Well-of-the-Weir.if-2/plug"])
	for _, s := range wanted.Steps {
		assert.Empty(t, s.Finds, "what is lost later is built again")
	}
	host, nic := wanted.Resource("Well-of-the-Weir"), wanted.Resource("Well-of-the-Weir.if")
	assert.Equal(t, "well-of-the-weir 2 4 20", strings.Join([]string{host.AsInstance().Hostname, fmt.Sprint(host.AsInstance().Cores), fmt.Sprint(host.AsInstance().MemoryGiB), fmt.Sprint(host.DiskGiB())}, " "))
	assert.Equal(t, "a a-1", host.Zone+" "+host.Host)
	assert.Equal(t, []int{22, 8080, 9100}, nic.AsInterface().Ports, "those that were seen, and those that are said")
	assert.Equal(t, "/data", wanted.Step("Well-of-the-Weir/attach:readings").Location)
	assert.Equal(t, plan.NetworkSpec{Label: "hand", CIDR: "10.77.0.0/24", Existing: "n-1", Others: true}, wanted.Resource("hand@vega").AsNetwork())
	assert.Equal(t, map[string]string{"site.id": "f-1", "address": "10.77.0.20", "mac": "02:00:00:00:00:01"}, take.Known["Well-of-the-Weir.if"])
	assert.Equal(t, map[string]string{"site.id": "i-1", "site.id.readings": "a-1"}, take.Known["Well-of-the-Weir"])
	assert.Equal(t, map[string]string{"site.id": "f-2"}, take.Known["Well-of-the-Weir.if-2"], "what is not known is not noted")
	for _, s := range take.Steps {
		assert.InDelta(t, 1, s.Seconds, 1e-9, "each is looked at once")
	}
	data, err := take.Write()
	require.NoError(t, err)
	_, err = plan.Read(data)
	require.NoError(t, err, "what comes out is a plan")
}

// TestWhatIsTakenIsOperatedAndLetGo: what is taken stands; nothing changes it; retiring it removes all but the networks, letting it go nothing at all.
func TestWhatIsTakenIsOperatedAndLetGo(t *testing.T) {
	wanted, take, err := Plan(found(t))
	require.NoError(t, err)
	stand, err := change.Done(change.Nothing(take), take)
	require.NoError(t, err)
	assert.True(t, change.Found(take))
	assert.False(t, change.Found(stand.Plan), "what stands is as what was built")
	again, err := change.Compile(stand, wanted, "again")
	require.NoError(t, err)
	assert.Empty(t, again.Steps)

	retire, err := change.Compile(stand, change.Nothing(wanted).Plan, "retire")
	require.NoError(t, err)
	var removed []string
	for _, s := range retire.Steps {
		if s.Op == op.Remove || s.Op == op.Detach || s.Op == op.Unplug {
			removed = append(removed, s.ID)
		}
	}
	slices.Sort(removed)
	assert.Equal(t, []string{"Well-of-the-Weir.if-2/unplug", "Well-of-the-Weir.if/unplug", "Well-of-the-Weir/detach:readings", "Well-of-the-Weir/remove", "readings/remove"}, removed)

	forget, err := change.LetGo(stand, "let go")
	require.NoError(t, err)
	for _, s := range forget.Steps {
		assert.Equal(t, op.Clear, s.Op, s.ID)
	}
	gone, err := change.Done(stand, forget)
	require.NoError(t, err)
	assert.True(t, gone.Empty())
}

// TestWhatIsTakenMoves: elsewhere a network like it is built, and nothing of other people's is touched.
func TestWhatIsTakenMoves(t *testing.T) {
	wanted, take, err := Plan(found(t))
	require.NoError(t, err)
	there, err := migrate.Relocate(wanted, scenario(t), []migrate.Choice{{Instance: "Well-of-the-Weir", Site: "alisio-norte"}}, take.Known)
	require.NoError(t, err)
	assert.Equal(t, plan.NetworkSpec{Label: "hand", CIDR: "10.77.0.0/24"}, there.Resource("hand@alisio-norte").AsNetwork())
	assert.Nil(t, there.Resource("hand@vega"))
	assert.Contains(t, there.Step("Well-of-the-Weir.if/plug").After, "hand@alisio-norte/create")
	stand, err := change.Done(change.Nothing(take), take)
	require.NoError(t, err)
	move, _, err := change.Move(stand, there, change.Moving{Instances: []string{"Well-of-the-Weir"}, Mode: change.Warm}, "move")
	require.NoError(t, err)
	for _, s := range move.Steps {
		assert.Empty(t, s.Finds, s.ID)
		assert.NotContains(t, s.ID, "hand@vega", "the network stays as it is")
	}
}

// TestOneThatIsOffIsTakenAsItIs: it stands, off, as it is wanted, and can be switched on; what of it leads nowhere is left out, and that is said.
func TestOneThatIsOffIsTakenAsItIs(t *testing.T) {
	in := found(t)
	in.Machines = []string{"vega/i-3"}
	wanted, take, err := Plan(in)
	require.NoError(t, err)
	stand, err := change.Done(change.Nothing(take), take)
	require.NoError(t, err)
	assert.True(t, stand.Plan.Resource("asleep").Off)
	again, err := change.Compile(stand, wanted, "again")
	require.NoError(t, err)
	assert.Empty(t, again.Steps)
	on := *wanted
	on.Resources = slices.Clone(wanted.Resources)
	on.Resources[0].Off = false
	start, err := change.Compile(stand, plan.Reindexed(&on), "start")
	require.NoError(t, err)
	require.Len(t, start.Steps, 1)
	assert.Equal(t, op.Boot, start.Steps[0].Op)
	assert.Contains(t, strings.Join(wanted.Resource("asleep").Why, "; "), "its interface bridged is in no network that vega tells of")
}

func TestWhatCannotBeTaken(t *testing.T) {
	for want, change := range map[string]func(in *Input){
		"say which machines are meant":               func(in *Input) { in.Machines = nil },
		"no survey has seen a machine vega/nobody":   func(in *Input) { in.Machines = []string{"vega/nobody"} },
		"no survey has seen a machine vega/v-1":      func(in *Input) { in.Machines = []string{"vega/v-1"} },
		"asleep is suspended: what is taken over is": func(in *Input) { in.Machines = []string{"vega/i-3"}; in.Seen[2].Set("state", "suspended") },
		"how large unknown is, vega did not say":     func(in *Input) { in.Machines = []string{"vega/i-4"} },
		"the network of its interface eth0 was not":  func(in *Input) { in.Machines = []string{"vega/i-5"} },
		"vega, which is not connected or does not":   func(in *Input) { in.Estate = &estate.Estate{} },
		"Well of the Weir is in no state that is kn": func(in *Input) { in.Seen[0].Attributes = nil },
	} {
		in := found(t)
		change(&in)
		wanted, take, err := Plan(in)
		require.ErrorContains(t, err, want)
		assert.Nil(t, wanted)
		assert.Nil(t, take)
	}
}

func TestHostNames(t *testing.T) {
	for name, want := range map[string]string{"well": "well", "Well of the Weir": "well-of-the-weir", "--": "machine", "ÁREA 7": "rea-7", strings.Repeat("a", 62) + "-b": strings.Repeat("a", 62)} {
		assert.Equal(t, want, hostname(name))
	}
}
