package hook_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/core/hook"
	"andamio/internal/core/money"
)

const some = `
version: andamio.hooks/1
mail: { server: "mail.ribera.test:587", from: "Andamio <andamio@ribera.test>", user: andamio, secret: mail-password }
hooks:
- { hook: board, on: [run.may-begin], when: 'size(event.sites) > 1', call: "https://board.ribera.test/ask", secret: board }
- { hook: channel, on: [run.stands, run.failed], when: 'event.team == "public-map" && event.per_hour > 0.1', call: "http://127.0.0.1:9/in", secret: channel }
- { hook: letters, on: [request.refused, run.failed], tell: [owner, teo, "team:gauging", "ops@ribera.test"], say: "Somebody looks after it." }
- { hook: tagged, on: [run.stands], when: 'event.tags.fund == "7"', call: "https://x.test/", secret: x }
`

func read(t testing.TB, text string) *hook.File {
	f, err := hook.Read([]byte(text))
	require.NoError(t, err)
	return f
}

// TestEventsSetOffWhatFits has events of several types set off hooks by their conditions; one that cannot be worked out is said.
func TestEventsSetOffWhatFits(t *testing.T) {
	f := read(t, some)
	set := func(e hook.Event) string {
		all, err := f.Set(&e)
		var out []string
		for _, h := range all {
			out = append(out, h.Name)
		}
		if err != nil {
			out = append(out, err.Error())
		}
		return strings.Join(out, ", ")
	}
	assert.Equal(t, "board", set(hook.Event{Type: hook.RunMayBegin, Sites: []string{"vega", "presa"}}))
	assert.Empty(t, set(hook.Event{Type: hook.RunMayBegin, Sites: []string{"vega"}}))
	assert.Equal(t, "channel, tagged", set(hook.Event{Type: hook.RunStands, Team: "public-map", PerHour: money.Of(0.2), Tags: map[string]string{"fund": "7"}}))
	assert.Equal(t, "hook tagged: when: no such key: fund", set(hook.Event{Type: hook.RunStands, Team: "gauging"}))
	assert.Equal(t, "letters", set(hook.Event{Type: hook.RequestRefused}))
	assert.Empty(t, set(hook.Event{Type: hook.RequestAsked}))
	assert.Equal(t, "board", f.Hook("board").Name)
	assert.Nil(t, f.Hook("none"))
}

// TestLettersGoToWhomTheyConcern finds addresses, each once, and says who has none.
func TestLettersGoToWhomTheyConcern(t *testing.T) {
	h := read(t, some).Hook("letters")
	d := &guard.Directory{People: map[string]guard.Person{"ibo": {Mail: "ibo@ribera.test"}, "teo": {Mail: "teo@ribera.test"}, "ana": {Mail: "teo@ribera.test"}, "eva": {}},
		Teams: map[string]guard.Team{"gauging": {Members: []string{"ana", "eva"}}}}
	to, without := h.To(&hook.Event{Person: "ibo"}, d)
	assert.Equal(t, []string{"ibo@ribera.test", "teo@ribera.test", "ops@ribera.test"}, to)
	assert.Equal(t, []string{"eva"}, without)
	to, _ = h.To(&hook.Event{Team: "gauging"}, d)
	assert.Equal(t, []string{"teo@ribera.test", "ops@ribera.test"}, to, "what is a team's is told its members")
	to, without = h.To(&hook.Event{Person: "ibo"}, nil)
	assert.Equal(t, []string{"ops@ribera.test"}, to)
	assert.Equal(t, []string{"ibo", "teo"}, without)

	e := hook.Event{Type: hook.RunFailed, Title: "trial\x1b[31m\nBcc: all", Name: "trial-7", Text: "1 step\x07 failed", By: "ibo", Person: "ibo", Team: "public-map", Sites: []string{"vega"},
		Run: 7, PerHour: money.Of(0.25), Currency: "cr", Tags: map[string]string{"fund": "7"}, At: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	subject, text := h.Letter(&e)
	assert.NotContains(t, subject+text, "\x1b")
	assert.NotContains(t, subject, "\n", "nothing of anybody's gets into the head of a letter")
	for _, want := range []string{"Somebody looks after it.\n\n", "1 step", "for      ibo public-map\n", "fund     7\n", "costs    0.250 cr/h\n", "run      7\n", "Mon, 23 Nov 2026 09:00:00 UTC"} {
		assert.Contains(t, text, want)
	}
}

// TestWhatIsNoHookIsRefused says what is wrong with each.
func TestWhatIsNoHookIsRefused(t *testing.T) {
	for text, says := range map[string]string{
		"hooks: [{hook: A b, on: [run.began], call: 'https://x.test', secret: x}]":                                                              `hook: "A b" is no name`,
		"hooks: [{hook: a, on: [], call: 'https://x.test', secret: x}]":                                                                         "nothing sets it off",
		"hooks: [{hook: a, on: [run.flew], call: 'https://x.test', secret: x}]":                                                                 `there is no "run.flew"`,
		"hooks: [{hook: a, on: [run.began]}]":                                                                                                   "say one of call, publish, tell and script",
		"hooks: [{hook: a, on: [run.began], call: 'https://x.test', secret: x, tell: [owner]}]":                                                 "say one of call, publish, tell and script",
		"hooks: [{hook: a, on: [run.began], call: 'http://x.test', secret: x}]":                                                                 "http is for this machine alone",
		"hooks: [{hook: a, on: [run.began], call: 'ftp://x.test', secret: x}]":                                                                  "is no https address",
		"hooks: [{hook: a, on: [run.began], call: 'https://a:b@x.test', secret: x}]":                                                            "it is kept as a secret",
		"hooks: [{hook: a, on: [run.began], call: 'https://x.test'}]":                                                                           "say the name of a secret",
		"hooks: [{hook: a, on: [run.began], call: 'https://x.test', secret: x, say: hm}]":                                                       "only a letter says something",
		"hooks: [{hook: a, on: [run.began], tell: [owner]}]":                                                                                    "nobody said how letters are sent",
		"mail: {server: x, from: nobody}\nhooks: []":                                                                                            `"x" is no HOST:PORT` + "\n" + `"nobody" is no address`,
		"mail: {server: 'x:25', from: a@b.test, user: a}\nhooks: []":                                                                            "say both or neither",
		"mail: {server: 'x:25', from: a@b.test, user: a, secret: b, plain: true}\nhooks: []":                                                    "is not sent where everybody can read it",
		"mail: {server: 'x:25', from: a@b.test}\nhooks: [{hook: a, on: [run.may-begin], tell: [owner]}]":                                        "a letter answers nothing",
		"mail: {server: 'x:25', from: a@b.test}\nhooks: [{hook: a, on: [run.began], tell: ['a@b@c'], secret: x}]":                               `"a@b@c" is no address` + "\nonly what is called has one",
		"hooks: [{hook: a, on: [run.began], when: '1 +', call: 'https://x.test', secret: x}]":                                                   "when: ERROR",
		"hooks: [{hook: a, on: [run.began], call: 'https://x.test', secret: x}, {hook: a, on: [run.began], call: 'https://x.test', secret: x}]": "another is called a",
		"hooks: [{hook: a, on: [run.began], script: 'true'}]":                                                                                   "nothing stands for sure",
		"hooks: [{hook: a, on: [run.stands], script: 'true', secret: x}]":                                                                       "is signed by nobody",
		"hooks: [{hook: a, on: [run.stands], script: 'true', at: ['[']}]":                                                                       "is no pattern",
		"hooks: [{hook: a, on: [run.began], call: 'https://x.test', secret: x, at: [x]}]":                                                       "only a script is run somewhere",
		"hooks: [{hook: a, on: [run.stands], script: 'true', tell: [owner]}]":                                                                   "say one of call, publish, tell and script",
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'nats://x.test:4222', subject: a}}]":                                             "nats:// is for this machine alone",
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'https://x.test', subject: a}}]":                                                 "is no tls://HOST:PORT",
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'tls://a:b@x.test', subject: a}}]":                                               "is no tls://HOST:PORT",
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'tls://x.test', subject: 'a.*'}}]":                                               `"a.*" is no subject`,
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'tls://x.test', subject: 'a..b'}}]":                                              "is no subject",
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'tls://x.test', subject: a, user: b}}]":                                          "say the name of a secret",
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'tls://x.test', subject: a}, mode: batched}]":                                    "published one by one",
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'tls://x.test', subject: a}, handshake: true}]":                                  "only a service is sent events",
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'tls://x.test', subject: a}, say: hm}]":                                          "only a letter says something",
		"hooks: [{hook: a, on: [run.may-begin], publish: {server: 'tls://x.test', subject: a}}]":                                                "answers nothing",
		"hooks: [{hook: a, on: [run.stands], publish: {server: 'tls://x.test', subject: a}, call: 'https://x.test', secret: x}]":                "say one of call, publish",
		"hooks: [{hook: a, on: [run.may-begin], call: 'https://x.test', secret: x, mode: batched}]":                                             "what is asked is asked alone",
		"hooks: [{hook: a, on: [run.stands], call: 'https://x.test', secret: x, mode: loud}]":                                                   "structured, binary and batched",
		"hooks: [{hook: a, colour: red}]":                                                                                                       "colour",
	} {
		_, err := hook.Read([]byte("version: " + hook.Version + "\n" + text))
		require.Error(t, err, text)
		for _, x := range strings.Split(says, "\n") {
			assert.ErrorContains(t, err, x, text)
		}
	}
	for good, does := range map[string]string{"publish: {server: 'tls://bus.test:4222', subject: a.b}": "publishes under a.b at tls://bus.test:4222",
		"publish: {server: 'nats://127.0.0.1:4222', subject: a-b_C, user: u}, secret: x, mode: binary": "publishes under a-b_C at nats://127.0.0.1:4222",
		"call: 'https://x.test', secret: x, mode: batched, handshake: true":                            "calls https://x.test"} {
		f, err := hook.Read([]byte("version: " + hook.Version + "\nhooks: [{hook: a, on: [log.noted, run.stands], " + good + "}]"))
		require.NoError(t, err, good)
		assert.Equal(t, does, f.Hooks[0].Does())
		if p := f.Hooks[0].Publish; p != nil {
			assert.Equal(t, p.Subject+".run.stands", p.SubjectOf(hook.RunStands))
		}
	}
	_, err := hook.Read([]byte("version: x"))
	require.ErrorContains(t, err, `"x" is not read`)
	_, err = hook.Read([]byte("{"))
	require.Error(t, err)
	d := &guard.Directory{People: map[string]guard.Person{"teo": {}}, Teams: map[string]guard.Team{}}
	require.ErrorContains(t, read(t, some).CheckAgainst(d), `hooks[2].tell: "team:gauging"`)
}

func TestWhatFailedIsTriedEverMoreSeldom(t *testing.T) {
	last := time.Duration(0)
	for n := 1; n <= hook.Tries; n++ {
		assert.GreaterOrEqual(t, hook.Again(n), last)
		last = hook.Again(n)
	}
	assert.Equal(t, []time.Duration{10 * time.Second, 20 * time.Second, 15 * time.Minute, 15 * time.Minute}, []time.Duration{hook.Again(1), hook.Again(2), hook.Again(8), hook.Again(99)})
}

func ExampleFile_Set() {
	f, _ := hook.Read([]byte(some))
	set, _ := f.Set(&hook.Event{Type: hook.RequestRefused, Title: "a map to try things on"})
	subject, _ := set[0].Letter(&hook.Event{Type: hook.RequestRefused, Title: "a map to try things on"})
	fmt.Println(set[0].Name, "-", subject)
	// Output: letters - a map to try things on is refused
}

// TestScriptsSetOffNoScripts has scripts be set off by what stands, and by nothing that a script set off.
func TestScriptsSetOffNoScripts(t *testing.T) {
	f := read(t, "version: andamio.hooks/1\nhooks:\n- { hook: watched, on: [run.stands, request.serving], at: [web-*, store], script: 'echo $EVENT_NAME' }")
	h := f.Hook("watched")
	e := hook.Event{ID: "run-7-standing-1", Type: hook.RunStands, Name: "map", Deployment: 3, Run: 7, Purpose: "start"}
	set, err := f.Set(&e)
	require.NoError(t, err)
	require.Len(t, set, 1)
	assert.Equal(t, "hook watched: run-7-standing-1", h.Purpose(&e), "it is the same whoever tells it")
	assert.Equal(t, "map", e.Inputs()["EVENT_NAME"])
	own := e
	own.Purpose = h.Purpose(&e)
	set, err = f.Set(&own)
	require.NoError(t, err)
	assert.Empty(t, set, "it would never end")
	nowhere := e
	nowhere.Deployment = 0
	set, err = f.Set(&nowhere)
	require.NoError(t, err)
	assert.Empty(t, set, "of nothing there is nothing to run it on")
	assert.True(t, h.Meant("web-1", "front", ""))
	assert.True(t, h.Meant("x", "store"))
	assert.False(t, h.Meant("x", "front", ""))
	assert.True(t, (&hook.Hook{}).Meant("anything"))
}
