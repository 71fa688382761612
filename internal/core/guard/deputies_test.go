package guard_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
)

const withDeputies = `
version: andamio.teams/1
people: { ana: {}, eva: {}, ibo: {}, lia: {}, teo: {} }
teams:
  gauging: { members: [lia, teo] }
  map: { members: [ibo] }
grants:
  - { to: ana, role: engineer }
  - { to: everybody, role: requester, teams: [own] }
  - { to: lia, role: approver, teams: [own] }
  - { to: lia, role: operator }
deputies:
  - { for: lia, by: eva, from: 2026-12-21, until: 2027-01-06 }
  - { for: eva, by: ibo, until: 2027-12-31 }
`

func at(t *testing.T, text string) time.Time {
	out, err := time.Parse(time.RFC3339, text)
	require.NoError(t, err)
	return out
}

// TestADeputyDecidesOnTheirDaysAndNothingElse asks on the edges of the days, of other rights, of others' teams and of one's own things.
func TestADeputyDecidesOnTheirDaysAndNothingElse(t *testing.T) {
	d, err := guard.ReadDirectory([]byte(withDeputies))
	require.NoError(t, err)
	gauging := guard.Thing{Team: "gauging", Person: "teo"}
	for _, c := range []struct {
		on     string
		person string
		right  guard.Right
		thing  guard.Thing
		want   bool
	}{
		{"2026-12-20T23:59:59Z", "eva", guard.Approve, gauging, false},
		{"2026-12-21T00:00:00Z", "eva", guard.Approve, gauging, true},
		{"2026-12-21T00:30:00+01:00", "eva", guard.Approve, gauging, false},
		{"2027-01-06T23:59:59Z", "eva", guard.Approve, gauging, true},
		{"2027-01-07T00:00:00Z", "eva", guard.Approve, gauging, false},
		{"2026-12-24T12:00:00Z", "eva", guard.Operate, gauging, false},
		{"2026-12-24T12:00:00Z", "eva", guard.Account, gauging, false},
		{"2026-12-24T12:00:00Z", "eva", guard.Approve, guard.Thing{Team: "map", Person: "ibo"}, false},
		{"2026-12-24T12:00:00Z", "eva", guard.Approve, guard.Thing{Team: "gauging", Person: "lia"}, false},
		{"2026-12-24T12:00:00Z", "ibo", guard.Approve, gauging, false}, // whose deputy is a deputy only
		{"2026-12-24T12:00:00Z", "lia", guard.Approve, gauging, true},
	} {
		now := d.On(at(t, c.on))
		assert.Equal(t, c.want, now.May(c.person, c.right, c.thing).Yes, "%+v", c)
	}
	assert.False(t, d.May("eva", guard.Approve, gauging).Yes, "it is not said what day it is")
	away := d.On(at(t, "2026-12-24T12:00:00Z"))
	assert.Equal(t, "in the place of lia: given to them, as approver: things of own", away.May("eva", guard.Approve, gauging).Why)
	assert.True(t, away.Has("eva", guard.Approve))
	assert.False(t, away.Has("ibo", guard.Approve))
	assert.False(t, d.Has("eva", guard.Approve))
	assert.Equal(t, []string{"requester: things of own", "approves in the place of lia"}, away.RolesOf("eva"))
	assert.Equal(t, []string{"eva"}, away.DeputiesOf("lia"))
	assert.Equal(t, []string{"lia"}, away.InPlaceOf("eva"))
}

// TestWhoIsAskedIsAskedByADeputyToo asks whom words mean.
func TestWhoIsAskedIsAskedByADeputyToo(t *testing.T) {
	d, err := guard.ReadDirectory([]byte(withDeputies))
	require.NoError(t, err)
	away := d.On(at(t, "2026-12-24T12:00:00Z"))
	assert.True(t, away.Asked("lia", "teo", []string{"lia"}))
	assert.True(t, away.Asked("eva", "teo", []string{"ana", "lia"}))
	assert.True(t, away.Asked("eva", "teo", []string{"team:gauging"}), "lia is of it")
	assert.False(t, away.Asked("eva", "lia", []string{"lia"}), "it is lia's own")
	assert.False(t, away.Asked("teo", "ibo", []string{"lia"}))
	assert.False(t, d.Asked("eva", "teo", []string{"lia"}))
}

// TestWhatIsWrongWithDeputiesIsSaid reads deputies that cannot be.
func TestWhatIsWrongWithDeputiesIsSaid(t *testing.T) {
	for line, want := range map[string]string{
		"{ for: lia, by: zoe, until: 2027-01-06 }":                   `deputies[0].by: there is nobody called "zoe"`,
		"{ for: zoe, by: lia, until: 2027-01-06 }":                   `deputies[0].for: there is nobody called "zoe"`,
		"{ for: lia, by: lia, until: 2027-01-06 }":                   "deputies[0].by: lia cannot be their own deputy",
		"{ for: lia, by: eva }":                                      `deputies[0].until: "" is no day, such as 2026-12-24`,
		"{ for: lia, by: eva, until: soon }":                         `deputies[0].until: "soon" is no day, such as 2026-12-24`,
		"{ for: lia, by: eva, from: 6 Jan, until: 2027-01-06 }":      `deputies[0].from: "6 Jan" is no day, such as 2026-12-24`,
		"{ for: lia, by: eva, from: 2027-01-07, until: 2027-01-06 }": "deputies[0].until: 2027-01-06 is before 2027-01-07",
	} {
		_, err := guard.ReadDirectory([]byte("version: andamio.teams/1\npeople: { ana: {}, eva: {}, lia: {} }\ngrants: [{ to: ana, role: engineer }]\ndeputies:\n  - " + line + "\n"))
		require.ErrorContains(t, err, want, line)
	}
}
