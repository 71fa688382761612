package window_test

import (
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/condition"
	"andamio/internal/core/fault"
	"andamio/internal/core/window"
)

const ribera = `
version: andamio.windows/1
zone: Europe/Madrid
blackouts:
- { name: floods, from: 2027-09-15, until: "2027-11-01T12:00", when: '"forecast" in deployment.services', say: The season. }
- { name: briefing, rule: FREQ=WEEKLY;BYDAY=TH, at: "10:00", for: 1h30m }
- { name: the eve, from: 2027-10-31, until: 2027-11-03 }
maintenance:
- { name: small hours, rule: FREQ=DAILY, at: "02:30", for: 4h, when: 'deployment.stage != "trial"' }
- { name: sundays, rule: FREQ=WEEKLY;BYDAY=SU, at: "12:00", for: 2h, when: 'deployment.stage != "trial"' }
`

func read(t *testing.T) *window.File {
	t.Helper()
	f, err := window.Read([]byte(ribera))
	require.NoError(t, err)
	return f
}

func at(t *testing.T, text string) time.Time {
	t.Helper()
	zone, err := time.LoadLocation("Europe/Madrid")
	require.NoError(t, err)
	out, err := time.ParseInLocation("2006-01-02 15:04", text, zone)
	require.NoError(t, err)
	return out
}

func TestWhatHoldsAnAct(t *testing.T) {
	f := read(t)
	forecast := &condition.Subject{Name: "basin", Services: []string{"forecast"}}
	other := &condition.Subject{Name: "map"}
	trial := &condition.Subject{Name: "try", Stage: "trial"}
	for name, c := range map[string]struct {
		of       *condition.Subject
		disturbs bool
		now      string
		by       string
		until    string
	}{
		"nothing":                               {other, false, "2027-06-01 12:00", "", ""},
		"a blackout":                            {forecast, false, "2027-09-15 00:00", "floods", "2027-11-01 12:00"},
		"just before it":                        {forecast, false, "2027-09-14 23:59", "", ""},
		"one that is for others":                {other, false, "2027-09-20 12:00", "", ""},
		"the one that ends last":                {forecast, false, "2027-11-01 11:59", "the eve", "2027-11-03 00:00"},
		"one that recurs":                       {trial, false, "2027-06-03 11:29", "briefing", "2027-06-03 11:30"},
		"until it ends":                         {trial, false, "2027-06-03 11:30", "", ""},
		"what disturbs waits":                   {other, true, "2027-06-01 12:00", "small hours", "2027-06-02 02:30"},
		"for the window that opens first":       {other, true, "2027-06-06 11:00", "sundays", "2027-06-06 12:00"},
		"and is done in it":                     {other, true, "2027-06-02 06:29", "", ""},
		"until it closes":                       {other, true, "2027-06-02 06:30", "small hours", "2027-06-03 02:30"},
		"where a window is for it":              {trial, true, "2027-06-01 12:00", "", ""},
		"a blackout counts in a window":         {forecast, true, "2027-10-01 03:00", "floods", "2027-11-01 12:00"},
		"on a day that has no half past two":    {other, true, "2028-03-26 01:59", "small hours", "2028-03-26 03:30"},
		"which is open then as long as usually": {other, true, "2028-03-26 07:29", "", ""},
	} {
		held, err := f.Holds(c.of, c.disturbs, at(t, c.now))
		require.NoError(t, err, name)
		if c.by == "" {
			assert.Nil(t, held, name)
			continue
		}
		require.NotNil(t, held, name)
		assert.Equal(t, c.by, held.Span, name)
		assert.True(t, at(t, c.until).Equal(held.Until), "%s: %s", name, held.Until)
		assert.Equal(t, held.Span != "small hours" && held.Span != "sundays", held.Blackout, name)
	}
	var going []string
	for _, x := range f.Going(at(t, "2027-11-01 11:00")) {
		going = append(going, x.Span)
	}
	assert.Equal(t, []string{"floods", "the eve"}, going)
	assert.Empty(t, f.Going(at(t, "2027-06-01 12:00")))
}

func TestWhatIsHeldSaysUntilWhen(t *testing.T) {
	f := read(t)
	held, err := f.Holds(&condition.Subject{Services: []string{"forecast"}}, false, at(t, "2027-09-20 12:00"))
	require.NoError(t, err)
	assert.EqualError(t, held, "it is held by the blackout floods until 1 Nov 12:00 CET: The season.")
	held, err = f.Holds(&condition.Subject{}, true, at(t, "2027-06-01 12:00"))
	require.NoError(t, err)
	assert.EqualError(t, held, "it waits for the maintenance window small hours, which opens 2 Jun 02:30 CEST")
	wrapped := fault.Default(fault.Refused, held)
	var found *window.Held
	require.True(t, errors.As(wrapped, &found))
	assert.Equal(t, "every day at 02:30 for 4h", f.Maintenance[0].Words())
	assert.Equal(t, "2027-10-31 to 2027-11-03", f.Blackouts[2].Words())
}

func TestWhatIsOverOpensNoMore(t *testing.T) {
	f, err := window.Read([]byte("version: andamio.windows/1\nmaintenance:\n- { name: once, from: 2027-01-01, until: 2027-01-02 }\n- { name: then, from: 2027-02-01, until: 2027-02-02 }\n"))
	require.NoError(t, err)
	held, err := f.Holds(&condition.Subject{}, true, time.Date(2027, 1, 15, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Equal(t, "then", held.Span)
	_, err = f.Holds(&condition.Subject{}, true, time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC))
	require.ErrorContains(t, err, "opens no more")
	held, err = f.Holds(&condition.Subject{}, false, time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	assert.Nil(t, held)
}

// TestWhatCannotBeWorkedOutHolds has an expression that asks for a tag that something does not have be an error: it might hold it.
func TestWhatCannotBeWorkedOutHolds(t *testing.T) {
	for _, kind := range []string{"blackouts", "maintenance"} {
		f, err := window.Read([]byte("version: andamio.windows/1\n" + kind + ":\n- { name: dear, rule: FREQ=DAILY, at: '00:00', for: 24h, when: 'deployment.tags.dear == \"yes\"' }\n"))
		require.NoError(t, err)
		_, err = f.Holds(&condition.Subject{Name: "map"}, true, at(t, "2027-06-01 12:00"))
		assert.Equal(t, fault.Refused, fault.CodeOf(err))
		assert.ErrorContains(t, err, `whether map is meant by "dear" cannot be worked out`)
	}
}

func TestWhatIsWrongWithAFile(t *testing.T) {
	for want, change := range map[string][2]string{
		`version: "andamio.windows/2"`:                   {"windows/1", "windows/2"},
		"zone: ":                                         {"Europe/Madrid", "Ribera/Alta"},
		`blackouts[0]: name: "Floods"`:                   {"name: floods", "name: Floods"},
		"blackouts[1]: another is called floods":         {"name: briefing", "name: floods"},
		"maintenance[1]: another is called small hours":  {"name: sundays", "name: small hours"},
		`blackouts[0]: from: "soon"`:                     {"2027-09-15", "soon"},
		`blackouts[0]: until: "2027-13-01"`:              {`"2027-11-01T12:00"`, "2027-13-01"},
		"blackouts[0]: until: 2027-09-15 is not after":   {`"2027-11-01T12:00"`, "2027-09-15"},
		"blackouts[0]: when: ":                           {`"forecast" in deployment.services`, "forecast"},
		"blackouts[1]: rule: ":                           {"FREQ=WEEKLY;BYDAY=TH", "FREQ=OFTEN"},
		`blackouts[1]: at: "10"`:                         {`"10:00"`, `"10"`},
		"blackouts[1]: for: ":                            {"1h30m", "a while"},
		"blackouts[1]: for: it lasts less than a minute": {"1h30m", "0h"},
		"blackouts[1]: it is either":                     {"at: \"10:00\", for", "from: 2027-01-01, for"},
		"blackouts[2]: it is either":                     {", from: 2027-10-31, until: 2027-11-03", ""},
		"these are no windows":                           {"say: The season.", "why: The season."},
	} {
		text := strings.Replace(ribera, change[0], change[1], 1)
		require.NotEqual(t, ribera, text, want)
		_, err := window.Read([]byte(text))
		assert.ErrorContains(t, err, want)
	}
}

func TestTheScenarioHasWindows(t *testing.T) {
	text, err := os.ReadFile("../../../examples/flood-watch/windows.yaml")
	require.NoError(t, err)
	f, err := window.Read(text)
	require.NoError(t, err)
	assert.Len(t, f.Blackouts, 2)
	assert.Len(t, f.Maintenance, 1)
}
