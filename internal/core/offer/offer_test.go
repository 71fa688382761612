package offer_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/guard"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/core/promise"
	"andamio/internal/core/tosca"
)

const template = `
tosca_definitions_version: tosca_simple_yaml_1_3
topology_template:
  inputs:
    fronts: { type: integer, default: 2, constraints: [ in_range: [ 1, 8 ] ] }
    memory: { type: scalar-unit.size, constraints: [ greater_or_equal: 4 GiB ] }
    title: { type: string, default: Ribera }
    cores: { type: integer, default: 2, constraints: [ valid_values: [ 2, 4, 8 ] ] }
    key: { type: string, metadata: { secret: "true" } }
  node_templates:
    host: { type: tosca.nodes.Compute, capabilities: { host: { properties: { num_cpus: { get_input: cores } } } } }
`

const trialMap = `
version: andamio.offer/1
offer: trial-map
title: A map to try
template: demo
inputs: { cores: 2 }
name: "${team}-map-${number}"
sites: [ "alisio-*", vega ]
audience: [ "team:map", eva ]
questions:
- { input: fronts, ask: How many fronts?, from: 1, to: 4 }
- input: memory
  ask: How much memory?
  choices: [ { value: 4 GiB, title: little }, { value: 8 GiB, title: enough } ]
  default: 4 GiB
- { input: title, ask: What is it called?, more: true }
variants:
- { sites: [ vega ], inputs: { cores: 4 } }
`

func read(t require.TestingT) (*offer.Offer, *tosca.Template) {
	tmpl, diags := tosca.Read("template.yaml", func(string) ([]byte, error) { return []byte(template), nil })
	require.Zero(t, diags.Errors(), diags.Error())
	o, err := offer.Read([]byte(trialMap))
	require.NoError(t, err)
	return o, tmpl
}

// TestWhatIsWrongWithAnOfferIsSaid changes one thing at a time.
func TestWhatIsWrongWithAnOfferIsSaid(t *testing.T) {
	o, tmpl := read(t)
	require.NoError(t, o.CheckAgainst(tmpl))
	assert.Empty(t, o.Unanswered(tmpl, nil))
	for _, c := range []struct{ was, is, says string }{
		{"offer/1", "offer/9", `"andamio.offer/9" is not read`},
		{"offer: trial-map", "offer: Trial Map", `offer: "Trial Map" is no name`},
		{"title: A map to try", "titel: A map to try", `unknown field "titel"`},
		{"title: A map to try", "title: ''", "title: it has none"},
		{"template: demo", "template: ''", "template: there is none"},
		{"${team}-map-${number}", "${town}-${number}", "${town} is not known; there are offer, team, person, number"},
		{"-map-${number}", "-map", "the second that is asked for would have the name of the first"},
		{`"alisio-*"`, `"["`, `sites[0]: "[" is no pattern`},
		{"ask: How much memory?", "ask: ''", "questions[1].ask: it asks nothing"},
		{"from: 1, to: 4", "from: 4, to: 1", "questions[0]: its range goes from 4 to 1, which is nothing"},
		{"from: 1, to: 4", "from: 1", "questions[0]: a range goes from and to"},
		{"from: 1, to: 4", "from: 1, to: 4, step: -1", "questions[0].step: it is -1"},
		{"from: 1, to: 4", "from: 1, to: 4, choices: [ { value: 1 } ]", "it has choices and a range"},
		{"from: 1, to: 4", "from: 1, to: 40", "questions[0]: its range ends at 40"},
		{"input: fronts", "input: backs", `questions[0].input: the template has no input "backs"; it has fronts, memory, title, cores, key`},
		{"input: fronts", "input: cores", "cores is fixed, so it cannot be asked for"},
		{"input: fronts", "input: title", "title is asked for twice"},
		{"input: title", "input: key", "key is secret: it is kept in the workspace, and nobody is asked for it"},
		{"inputs: { cores: 2 }", "inputs: { cores: 3 }", "inputs.cores: "},
		{"inputs: { cores: 2 }", "inputs: { key: hunter22 }", "inputs.key: it is secret"},
		{"inputs: { cores: 4 }", "inputs: { wings: 4 }", `variants[0].inputs: the template has no input "wings"`},
		{"value: 8 GiB", "value: 1 GiB", "questions[1].choices[1]: "},
		{"default: 4 GiB", "default: 16 GiB", `questions[1].default: "16 GiB" is none of 4 GiB (little), 8 GiB (enough)`},
	} {
		require.Contains(t, trialMap, c.was)
		bad, err := offer.Read([]byte(strings.Replace(trialMap, c.was, c.is, 1)))
		if err == nil {
			err = bad.CheckAgainst(tmpl)
		}
		assert.ErrorContains(t, err, c.says)
		assert.NotContains(t, fmt.Sprint(err), "hunter22", "what is secret is not said again")
	}
	open, err := offer.Read([]byte(strings.Replace(trialMap, "input: memory", "input: cores", 1)))
	require.NoError(t, err)
	assert.Equal(t, []string{"memory"}, open.Unanswered(tmpl, nil))
	assert.Empty(t, open.Unanswered(tmpl, tosca.Inputs{"memory": &tosca.Value{}}), "the preset gives it")
}

func TestAnswersBecomeInputs(t *testing.T) {
	o, tmpl := read(t)
	for _, c := range []struct {
		given offer.Answers
		want  map[string]any
		wrong string
	}{
		{offer.Answers{}, map[string]any{"cores": 2, "memory": "4 GiB"}, ""},
		{offer.Answers{"fronts": "3", "memory": "enough", "title": "  "}, map[string]any{"cores": 2, "fronts": 3, "memory": "8 GiB"}, ""},
		{offer.Answers{"memory": "8 GiB", "title": "yes"}, map[string]any{"cores": 2, "memory": "8 GiB", "title": "yes"}, ""},
		{offer.Answers{"fronts": "5"}, nil, "fronts: 5 is not offered; it goes from 1 to 4"},
		{offer.Answers{"fronts": "2.5"}, nil, "fronts: 2.5 is not offered"},
		{offer.Answers{"fronts": "many"}, nil, `fronts: "many" is no number`},
		{offer.Answers{"memory": "16 GiB"}, nil, `memory: "16 GiB" is none of 4 GiB (little), 8 GiB (enough)`},
		{offer.Answers{"cores": "8"}, nil, "cores: nobody asked that"},
		{offer.Answers{"key": "x"}, nil, "key: nobody asked that"},
	} {
		got, wrong := o.InputsOf(tmpl, c.given, nil)
		if c.wrong != "" {
			require.Len(t, wrong, 1, "%v", c.given)
			assert.Contains(t, wrong[0].Input+": "+wrong[0].Why, c.wrong)
			continue
		}
		require.Empty(t, wrong)
		plain := map[string]any{}
		for name, v := range got {
			plain[name] = v.Plain()
		}
		assert.EqualValues(t, fmt.Sprint(c.want), fmt.Sprint(plain))
	}
	got, _ := o.InputsOf(tmpl, nil, o.VariantAt("vega"))
	assert.EqualValues(t, 4, got["cores"].Plain(), "there it is another")
	assert.Nil(t, o.VariantAt("alisio-sur"))
	o.Questions[1].Default = nil
	_, wrong := o.InputsOf(tmpl, nil, nil)
	require.Len(t, wrong, 1)
	assert.Equal(t, offer.Wrong{Input: "memory", Ask: "How much memory?", Why: "it has to be answered"}, wrong[0])
}

func TestWhoWhereAndWhatItIsCalled(t *testing.T) {
	o, _ := read(t)
	d, err := guard.ReadDirectory([]byte("version: andamio.teams/1\npeople: { ana: {}, eva: {}, ibo: {}, lia: {} }\nteams: { house: { members: [ lia ] }, map: { within: house, members: [ ibo ] } }\ngrants: [ { to: ana, role: engineer } ]"))
	require.NoError(t, err)
	for who, may := range map[string]bool{"eva": true, "ibo": true, "ana": false, "lia": false, "": false} {
		assert.Equal(t, may, o.For(who, d), who)
	}
	assert.True(t, o.For("anybody", nil))
	assert.True(t, (&offer.Offer{}).For("ana", d))
	for at, may := range map[string]bool{"alisio-sur": true, "vega": true, "presa": false} {
		assert.Equal(t, may, o.At(at), at)
	}
	assert.Equal(t, "map-map-3", o.NameOf("map", "ibo", 3))
	assert.Equal(t, "map-3", o.NameOf("", "ibo", 3), "what is not known leaves no gap")
	assert.Equal(t, "x-1", (&offer.Offer{Name: "x"}).NameOf("", "", 1))
	fixed := money.Of(2)
	for _, c := range []struct {
		price offer.Price
		want  money.Amount
		shown bool
	}{{offer.Price{}, money.Of(1), true}, {offer.Price{PerHour: &fixed}, fixed, true}, {offer.Price{PerHour: &fixed, Hidden: true}, 0, false}} {
		got, shown := c.price.Amount(money.Of(1))
		assert.Equal(t, []any{c.want, c.shown}, []any{got, shown})
	}
}

// TestEveryEndIsAmongTheTrials has so many answers that few are drawn: the smallest and largest of every question are among them, and a range
// goes in its steps.
func TestEveryEndIsAmongTheTrials(t *testing.T) {
	o, _ := read(t)
	from, to := 2.0, 2000.0
	o.Questions = []offer.Question{{Input: "fronts", From: &from, To: &to, Step: 3}, {Input: "cores", From: &from, To: &to}}
	assert.Equal(t, []string{"2", "5", "8"}, o.Questions[0].Answers()[:3])
	assert.Len(t, o.Questions[0].Answers(), 667)
	got := o.Trials(7, 4)
	assert.Equal(t, 667*1999, got.All)
	ends := map[string]int{}
	for _, s := range got.Sets {
		for name, v := range s {
			if v == "2" || v == "2000" {
				ends[name+" "+v]++
			}
		}
	}
	assert.Equal(t, 2, ends["fronts 2000"], "the largest of all, and by itself")
	assert.GreaterOrEqual(t, ends["fronts 2"], 2)
	assert.GreaterOrEqual(t, ends["cores 2"], 2)
	assert.GreaterOrEqual(t, ends["cores 2000"], 2)
	assert.NotEqual(t, fmt.Sprint(got.Sets), fmt.Sprint(o.Trials(7, 5).Sets), "the others are drawn by the seed")
	assert.Equal(t, fmt.Sprint(got.Sets), fmt.Sprint(o.Trials(7, 4).Sets))
}

// TestTrialsAreWholeWhereTheyAreFew holds that every set of answers is tried once where there are few, and that every trial's answers are
// taken.
func TestTrialsAreWholeWhereTheyAreFew(t *testing.T) {
	o, tmpl := read(t)
	o.Questions = o.Questions[:2]
	all := o.Trials(100, 1)
	assert.True(t, all.Whole)
	assert.Equal(t, 8, all.All)
	seen := map[string]bool{}
	for _, s := range all.Sets {
		seen[fmt.Sprint(s)] = true
	}
	assert.Len(t, seen, 8)
	o, _ = read(t)
	assert.False(t, o.Trials(100, 1).Whole, "a title is anything")
	assert.Zero(t, o.Trials(100, 1).All)
	rapid.Check(t, func(t *rapid.T) {
		o, _ := read(t)
		to := float64(rapid.IntRange(1, 8).Draw(t, "to"))
		o.Questions[0].To = &to
		most := rapid.IntRange(6, 20).Draw(t, "most")
		got := o.Trials(most, rapid.Uint64().Draw(t, "seed"))
		want := int(to) * 2
		for _, s := range got.Sets {
			_, wrong := o.InputsOf(tmpl, s, nil)
			require.Empty(t, wrong, "%v", s)
		}
		if want > most {
			require.Len(t, got.Sets, max(most, 2+2*len(o.Questions)))
			require.Contains(t, fmt.Sprint(got.Sets), fmt.Sprintf("fronts:%d", int(to)), "the largest is among them")
			require.Contains(t, fmt.Sprint(got.Sets), "fronts:1 ")
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(trialMap), "3")
	_, tmpl := read(f)
	f.Fuzz(func(t *testing.T, data []byte, answer string) {
		o, err := offer.Read(data)
		if err != nil {
			return
		}
		_ = o.CheckAgainst(tmpl)
		o.Trials(10, 1)
		given := offer.Answers{}
		for _, q := range o.Questions {
			if tmpl.Input(q.Input) != nil {
				given[q.Input] = answer
			}
		}
		for _, q := range o.Questions {
			if tmpl.Input(q.Input) == nil {
				return
			}
		}
		o.InputsOf(tmpl, given, nil)
	})
}

// TestAnOfferSaysWhenItEnds reads leases of offers, right ones and wrong ones.
func TestAnOfferSaysWhenItEnds(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	day := 24 * time.Hour
	l := offer.Lease{For: "30d", Grace: "1w", ExtendBy: "2w", ExtendTimes: 2}
	terms, err := l.Terms(now)
	require.NoError(t, err)
	assert.Equal(t, &promise.LeaseTerms{Until: now.Add(30 * day), Grace: 7 * day, By: 14 * day, Times: 2, Notice: []time.Duration{7 * day, day}}, terms)
	assert.Equal(t, "It ends 30d after it is built, and what is on it is kept 1w more; you may have it end 2w later, 2 times.", l.Words())
	assert.Equal(t, "It ends 2d after it is built.", (&offer.Lease{For: "2d"}).Words())
	short, err := (&offer.Lease{For: "2d"}).Terms(now)
	require.NoError(t, err)
	assert.Equal(t, []time.Duration{day}, short.Notice, "no notice is before its beginning")
	for _, c := range []struct {
		lease offer.Lease
		says  string
	}{{offer.Lease{}, "no span"}, {offer.Lease{For: "1y"}, "for: "}, {offer.Lease{For: "1d", Grace: "x"}, "grace: "}, {offer.Lease{For: "1d", ExtendBy: "1d"}, "both or neither"},
		{offer.Lease{For: "1d", ExtendBy: "-"}, "extend_by: "}, {offer.Lease{For: "0d"}, "is over"}} {
		_, err := c.lease.Terms(now)
		assert.ErrorContains(t, err, c.says, "%+v", c.lease)
	}
	_, err = offer.Read([]byte("version: andamio.offer/1\noffer: x\ntitle: X\ntemplate: x\nlease: { for: soon }"))
	assert.ErrorContains(t, err, "lease: for: ")
}
