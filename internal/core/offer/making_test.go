package offer_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/offer"
	"andamio/internal/core/tosca"
)

func given(t require.TestingT, pairs map[string]string) tosca.Inputs {
	out := tosca.Inputs{}
	for name, text := range pairs {
		v, diags := tosca.ParseInput(name, text)
		require.Zero(t, diags.Errors(), "%v", diags)
		out[name] = v
	}
	return out
}

func TestAnOfferIsMadeOfATemplateThatWorks(t *testing.T) {
	_, tmpl := read(t)
	changed := given(t, map[string]string{"title": "Upper basin"})
	o := offer.Make(offer.Making{Name: "basin-map", Template: tmpl, Place: "../template.yaml", Preset: "drill", Changed: changed,
		Given: given(t, map[string]string{"title": "Upper basin", "fronts": "3"}), For: []string{"ana"}})
	text, err := o.File()
	require.NoError(t, err)
	assert.Equal(t, `version: andamio.offer/1
offer: basin-map
title: Basin map
template: ../template.yaml
preset: drill
audience:
  - ana
name: ${offer}-${number}
inputs:
  title: Upper basin
questions:
  - ask: Fronts?
    default: 3
    from: 1
    input: fronts
    to: 8
  - ask: Memory?
    input: memory
    more: true
  - ask: Cores?
    choices:
      - value: 2
      - value: 4
      - value: 8
    default: 2
    input: cores
`, string(text))
}

// TestWhatIsMadeIsAnOffer makes offers with whatever was changed: each is read as it was, fits its template, and has everything answered.
func TestWhatIsMadeIsAnOffer(t *testing.T) {
	_, tmpl := read(t)
	values := map[string][]string{"fronts": {"1", "8"}, "memory": {"4 GiB", "16 GiB"}, "title": {`"a: b"`, `"yes"`, "ribera"}, "cores": {"2", "8"}}
	rapid.Check(t, func(t *rapid.T) {
		draw := func(label string) tosca.Inputs {
			out := map[string]string{}
			for name, all := range values {
				if rapid.Bool().Draw(t, label+name) {
					out[name] = rapid.SampledFrom(all).Draw(t, "value of "+name)
				}
			}
			return given(t, out)
		}
		preset, changed := draw("preset "), draw("changed ")
		all := tosca.Inputs{}
		for _, inputs := range []tosca.Inputs{preset, changed} {
			for name, v := range inputs {
				all[name] = v
			}
		}
		made := offer.Make(offer.Making{Name: "some-offer", Template: tmpl, Place: "..", Given: all, Changed: changed})
		text, err := made.File()
		require.NoError(t, err)
		o, err := offer.Read(text)
		require.NoError(t, err, "%s", text)
		require.NoError(t, o.CheckAgainst(tmpl), "%s", text)
		require.Empty(t, o.Unanswered(tmpl, preset))
		again, err := o.File()
		require.NoError(t, err)
		require.Equal(t, string(text), string(again))
	})
}
