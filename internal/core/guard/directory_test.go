package guard_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/guard"
)

// Keys of nobody: their bytes are made up.
const (
	keyOfEva = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEBAQEB eva@house"
	keyOfIbo = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAICAgICAgICAgICAgICAgICAgICAgICAgICAgICAgIC"
)

const ribera = `
version: andamio.teams/1
people:
  ana: { user: ana, title: Ana }
  eva: { user: eva, keys: [ "` + keyOfEva + `" ] }
  ibo: { keys: [ "` + keyOfIbo + `" ] }
  lia: {}
  teo: {}
teams:
  ribera: { members: [ lia ] }
  gauging: { within: ribera, members: [ eva ] }
  map: { within: ribera, members: [ ibo ] }
roles:
  caller: [ ask, account ]
grants:
- { to: ana, role: engineer }
- { to: everybody, role: requester, teams: [ own ] }
- { to: "team:gauging", role: operator, teams: [ own ], sites: [ "pres?", vega ] }
- { to: lia, role: approver, teams: [ ribera ], stages: [ trial ], tags: { river: "ebr*" } }
- { to: "team:ribera", role: caller, services: [ gauge-intake ] }
`

func directory(t require.TestingT, text string) *guard.Directory {
	d, err := guard.ReadDirectory([]byte(text))
	require.NoError(t, err)
	return d
}

// TestRightsByActsAndRoles asks for every act by every role that ships, and by nobody: whoever has the right of its row may, no one else.
func TestRightsByActsAndRoles(t *testing.T) {
	text := "version: andamio.teams/1\npeople: { root: {}"
	grants := "\ngrants:\n- { to: root, role: engineer }\n"
	for role := range guard.Roles {
		text += fmt.Sprintf(", a-%s: {}", role)
		grants += fmt.Sprintf("- { to: a-%s, role: %s }\n", role, role)
	}
	d := directory(t, text+", none: {} }"+grants)
	asked := 0
	for role, rights := range guard.Roles {
		for _, row := range guard.Acts {
			for _, way := range []guard.Way{guard.Screen, guard.Command, guard.API, guard.Schedule, guard.Rule} {
				err := guard.Allow(d, guard.Actor{Name: "a-" + role, Way: way}, row.Act, guard.Named("x"))
				assert.Equal(t, slices.Contains(rights, row.Right), err == nil, "%s %s by %s: %v", role, row.Act, way, err)
				require.Error(t, guard.Allow(d, guard.Actor{Name: "none", Way: way}, row.Act, guard.Named("x")))
				require.Error(t, guard.Allow(d, guard.Actor{Name: "stranger", Way: way}, row.Act, guard.Named("x")))
				asked++
			}
		}
	}
	assert.Equal(t, len(guard.Roles)*len(guard.Acts)*5, asked)
}

func TestBoundsOfRights(t *testing.T) {
	d := directory(t, ribera)
	gauge := guard.Thing{Name: "gauge", Team: "gauging", Sites: []string{"presa"}, Service: "gauge-intake", Stage: "trial", Tags: map[string]string{"river": "ebro"}}
	with := func(change func(*guard.Thing)) guard.Thing {
		x := gauge
		change(&x)
		return x
	}
	for _, c := range []struct {
		who   string
		right guard.Right
		on    guard.Thing
		yes   bool
		why   string
	}{
		{"ana", guard.Keep, guard.Thing{}, true, "given to them, as engineer"},
		{"eva", guard.Operate, gauge, true, "given to the team gauging, as operator"},
		{"eva", guard.Operate, with(func(x *guard.Thing) { x.Sites = []string{"presa", "alisio-sur"} }), false, "this is at alisio-sur, not at pres?, vega"},
		{"eva", guard.Operate, with(func(x *guard.Thing) { x.Sites = nil }), false, "it is at none of the sites"},
		{"eva", guard.Operate, with(func(x *guard.Thing) { x.Team = "map" }), false, "this is another team's"},
		{"eva", guard.Operate, with(func(x *guard.Thing) { x.Team = "" }), false, "this is no team's"},
		{"eva", guard.Operate, with(func(x *guard.Thing) { x.Team, x.Person = "", "eva" }), true, "operator"},
		{"eva", guard.Operate, with(func(x *guard.Thing) { x.Team = "ribera" }), false, "another team's"},
		{"eva", guard.Approve, gauge, false, "the right to approve, which nobody gave them"},
		{"lia", guard.Ask, gauge, true, "given to everybody"},
		{"lia", guard.Approve, gauge, true, "stage trial; tag river ebr*"},
		{"lia", guard.Approve, with(func(x *guard.Thing) { x.Stage = "production" }), false, "this is of the stage production, not of trial"},
		{"lia", guard.Approve, with(func(x *guard.Thing) { x.Stage = "" }), false, "of the stage that nobody said"},
		{"lia", guard.Approve, with(func(x *guard.Thing) { x.Tags = nil }), false, "the tag river that nobody said, not ebr*"},
		{"ibo", guard.Account, gauge, true, "given to the team ribera, as caller: service gauge-intake"},
		{"ibo", guard.Account, with(func(x *guard.Thing) { x.Service = "river-map" }), false, "of the service river-map"},
		{"ibo", guard.Operate, gauge, false, "nobody gave them"},
		{"teo", guard.Ask, gauge, false, "another team's"},
		{"nobody", guard.Ask, gauge, false, "nobody of that name"},
	} {
		a := d.May(c.who, c.right, c.on)
		assert.Equal(t, c.yes, a.Yes, "%s %s: %s", c.who, c.right, a.Why)
		assert.Contains(t, a.Why, c.why)
	}
	assert.Equal(t, []string{"gauging", "ribera"}, d.Around("gauging"))
	assert.Equal(t, []string{"ana"}, d.Keepers())
	assert.True(t, d.Has("lia", guard.Approve))
	assert.False(t, d.Unbounded("lia", guard.Approve))
	assert.False(t, d.Has("teo", guard.Read))
}

// TestNoRefusalNamesAnotherTeam asks for things of all teams: what those hear who may not read names no team but their own.
func TestNoRefusalNamesAnotherTeam(t *testing.T) {
	d := directory(t, ribera)
	rapid.Check(t, func(t *rapid.T) {
		who := rapid.SampledFrom(slices.Sorted(maps.Keys(d.People))).Draw(t, "who")
		on := guard.Thing{Name: "x", Team: rapid.SampledFrom([]string{"", "ribera", "gauging", "map"}).Draw(t, "team")}
		a := d.May(who, rapid.SampledFrom(guard.Rights).Draw(t, "right"), on)
		if a.Yes || d.Has(who, guard.Read) {
			return
		}
		for team := range d.Teams {
			mine := slices.ContainsFunc(d.TeamsOf(who), func(x string) bool { return slices.Contains(d.Around(x), team) })
			if !mine && strings.Contains(a.Why, team) {
				t.Fatalf("%s hears of %s: %s", who, team, a.Why)
			}
		}
	})
}

func TestPeopleAreKnownByUserAndKey(t *testing.T) {
	d := directory(t, ribera)
	assert.Equal(t, "eva", d.ByUser("eva"))
	assert.Empty(t, d.ByUser(""), "who has no user is not found by none")
	assert.Empty(t, d.ByUser("mallory"))
	kind, rest, _ := strings.Cut(keyOfEva, " ")
	assert.Equal(t, "eva", d.ByKey(kind+" "+strings.Fields(rest)[0]+" of another comment"))
	assert.Equal(t, "ibo", d.ByKey(keyOfIbo))
	assert.Empty(t, d.ByKey("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAMDAwMDAwMDAwMDAwMDAwMDAwMDAwMDAwMDAwMDAwMD"))
	assert.Empty(t, d.ByKey("rubbish"))
}

// TestWhatIsWrongWithADirectoryIsSaid changes one thing at a time, and reads all that is wrong at once.
func TestWhatIsWrongWithADirectoryIsSaid(t *testing.T) {
	for _, c := range []struct{ was, is, says string }{
		{"andamio.teams/1", "andamio.teams/9", `version: "andamio.teams/9" is not read`},
		{"title: Ana", "nickname: Ana", `unknown field "nickname"`},
		{"user: eva", "user: ana", "people.eva.user: ana is ana already"},
		{keyOfIbo, keyOfEva, "people.ibo.keys[0]: it is the key of eva already"},
		{keyOfIbo, "ssh-ed25519", "people.ibo.keys[0]: it is no public key"},
		{keyOfIbo, "ssh-ed25519 ???", "comes after its kind is not base64"},
		{keyOfIbo, strings.Replace(keyOfIbo, "ssh-ed25519 ", "ssh-rsa ", 1), "no public key of the kind ssh-rsa"},
		{keyOfIbo, "ssh-rsa /////wAA", "no public key of the kind ssh-rsa"},
		{"  teo: {}", "  Teo Ruiz: {}", `people: "Teo Ruiz" is no name`},
		{"  teo: {}", "  everybody: {}", "people.everybody: nobody can be called so"},
		{"within: ribera, members: [ ibo ]", "within: delta", `teams.map.within: there is no team "delta"`},
		{"ribera: { members", "ribera: { within: map, members", "teams.map.within: it would be within itself"},
		{"members: [ lia ]", "members: [ mia ]", `teams.ribera.members: there is nobody called "mia"`},
		{"  ribera: {", "  own: {", "no team can be called so"},
		{"[ ask, account ]", "[ ask, sing ]", `roles.caller: "sing" is no right`},
		{"to: lia", "to: mia", `grants[3].to: "mia" is neither a person`},
		{`to: "team:gauging"`, `to: "team:delta"`, `"team:delta" is neither`},
		{"role: approver", "role: pope", `grants[3].role: there is no role "pope"; there are approver, auditor, caller, engineer, operator, requester`},
		{"teams: [ ribera ], stages", "teams: [ delta ], stages", `grants[3].teams: there is no team "delta"`},
		{"vega ]", `"[" ]`, `"[" is no pattern`},
		{"to: ana, role: engineer", "to: ana, role: engineer, sites: [ vega ]", "nobody may keep the workspace"},
	} {
		require.Contains(t, ribera, c.was)
		_, err := guard.ReadDirectory([]byte(strings.Replace(ribera, c.was, c.is, 1)))
		assert.ErrorContains(t, err, c.says)
	}
	_, err := guard.ReadDirectory([]byte(strings.NewReplacer("role: approver", "role: pope", "[ ask, account ]", "[ sing ]").Replace(ribera)))
	assert.ErrorContains(t, err, "pope")
	assert.ErrorContains(t, err, "sing")
	_, err = guard.ReadDirectory([]byte("{"))
	assert.ErrorContains(t, err, "this is no directory of teams")
}
