package engine

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/run"
	"andamio/internal/site"
)

// heeding is a journal at which somebody looks who decides.
type heeding struct {
	memory
	saw func(run.Event)
}

func (h *heeding) Append(events ...run.Event) error {
	err := h.memory.Append(events...)
	for _, e := range events {
		if err == nil {
			h.saw(e)
		}
	}
	return err
}

// TestAPersonDecidesOfWhatFailed has a step fail, and somebody say as soon as it is journalled what is to become of it and of others: it is done again, or passed over with what waits for it going on;
// what is said of steps that did not fail, or are not there, is taken and of no use.
func TestAPersonDecidesOfWhatFailed(t *testing.T) {
	for _, c := range []struct {
		name     string
		verbs    [][2]string // of which steps, when the first has failed
		full     int         // how many events are kept after the failure; 0 is all
		a, b     run.Status
		attempts int
		fails    error
	}{
		{"nothing", nil, 0, run.Failed, run.Held, 1, ErrUnfinished},
		{"again", [][2]string{{"a/create", run.Retry}}, 0, run.Standing, run.Standing, 2, nil},
		{"skip", [][2]string{{"a/create", run.Skip}}, 0, run.Passed, run.Standing, 1, nil},
		{"something else", [][2]string{{"a/create", "burn"}}, 0, run.Failed, run.Held, 1, ErrUnfinished},
		{"of another", [][2]string{{"b/create", run.Retry}, {"b/create", run.Skip}, {"z/create", run.Skip}}, 0, run.Failed, run.Held, 1, ErrUnfinished},
		{"others first", [][2]string{{"z/create", run.Retry}, {"a/create", "burn"}, {"a/create", run.Retry}}, 0, run.Standing, run.Standing, 2, nil},
		{"twice", [][2]string{{"a/create", run.Skip}, {"a/create", run.Retry}}, 0, run.Passed, run.Standing, 1, nil},
		{"again, and it cannot be journalled", [][2]string{{"a/create", run.Retry}}, 1, run.Failed, run.Held, 1, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := networks(2)
			p.Steps[1].After, p.Steps[1].Level, p.Resources[1].Level, p.Levels = []string{"a/create"}, 2, 2, 2
			decisions, taken, attempts := make(chan Decision, 10), 0, 0
			j := &heeding{}
			j.saw = func(e run.Event) {
				if e.Kind != run.StepFailed {
					return
				}
				if c.full > 0 {
					j.failAfter = len(j.events)
				}
				for _, v := range c.verbs {
					decisions <- Decision{Step: v[0], Verb: v[1], Taken: func() { taken++ }}
				}
			}
			s := &scripted{create: func(r site.Request) (site.Resource, error) {
				if r.Name == "a" {
					if attempts++; attempts == 1 {
						return site.Resource{}, &site.Error{Site: "vega", Doing: "create", Class: site.Refused, Detail: "not now"}
					}
				}
				return active(r)
			}}
			e, _ := engineFor(t, p, s)
			e.Journal, e.Decisions = j, decisions
			err := e.Execute(t.Context())
			got := state(p, &j.memory)
			assert.Equal(t, c.a, got.Steps[0].Status)
			assert.Equal(t, c.b, got.Steps[1].Status)
			assert.Equal(t, c.attempts, attempts)
			if c.full > 0 {
				require.ErrorContains(t, err, "disk full", "what was decided is not done if nobody will know of it")
				return
			}
			require.ErrorIs(t, err, c.fails)
			if len(c.verbs) > 0 {
				assert.Positive(t, taken, "whoever decided knows that it was heard")
			}
			told := map[string]bool{}
			for _, ev := range j.events {
				if ev.Kind == run.Decided {
					told[fmt.Sprintf("%s %s", ev.Step, ev.Text)] = true
				}
			}
			want := map[string]bool{}
			for _, v := range c.verbs {
				if v[0] == "a/create" && v[1] != "burn" && len(want) == 0 {
					want[v[0]+" "+v[1]] = true
				}
			}
			assert.Equal(t, want, told)
		})
	}
}
