package api

import (
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/service/offers"
	"andamio/internal/service/tokens"
	"andamio/internal/source"
)

// with packs a template with other files.
func with(t *testing.T, template string, files map[string]string) string {
	t.Helper()
	all := map[string][]byte{"template.yaml": []byte(template)}
	for name, text := range files {
		all[name] = []byte(text)
	}
	data, err := source.Pack(all, "template.yaml")
	require.NoError(t, err)
	return string(data)
}

// TestOffersAreMadeAndPublishedFromElsewhere makes an offer's file of a template that is sent, publishes it as it came, asks for it, and publishes a second version; what is wrong with what is sent is said, and nothing is offered.
func TestOffersAreMadeAndPublishedFromElsewhere(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	const zip = "Content-Type: application/zip"
	made := c.ask("POST", "/templates/offer?offer=levels", archive(t, gauges), zip)
	require.Equal(t, http.StatusOK, made.status, made.body)
	require.Contains(t, made.body, "offer: levels")
	publish := func(file string, files map[string]string) answer {
		return c.ask("POST", "/offers?file="+url.QueryEscape(file), with(t, gauges, files), zip)
	}
	got := publish("offers/levels.yaml", map[string]string{"offers/levels.yaml": made.body})
	require.Equal(t, http.StatusCreated, got.status, got.body)
	var o offers.Offer
	require.NoError(t, json.Unmarshal([]byte(got.body), &o))
	assert.Equal(t, int64(1), o.Number)
	assert.Equal(t, http.StatusOK, c.ask("GET", "/offers/levels", "").status)
	quoted := c.ask("POST", "/offers/levels/quote", "{}")
	assert.Equal(t, http.StatusOK, quoted.status, quoted.body)

	says := func(file, text, what string, status int) {
		t.Helper()
		got := publish(file, map[string]string{"offers/levels.yaml": text, "else.yaml": gauges})
		assert.Equal(t, status, got.status, got.body)
		assert.Contains(t, got.body, what)
	}
	says("offers/none.yaml", made.body, "none.yaml", http.StatusBadRequest)
	says("../levels.yaml", made.body, "no path in an archive", http.StatusBadRequest)
	says("/etc/passwd", made.body, "no path in an archive", http.StatusBadRequest)
	says("offers/levels.yaml", "lake", "offer", http.StatusBadRequest)
	says("offers/levels.yaml", strings.Replace(made.body, "../template.yaml", "../else.yaml", 1), "leads to else.yaml", http.StatusBadRequest)
	says("offers/levels.yaml", strings.Replace(made.body, "../template.yaml", "/etc", 1), "leads to", http.StatusBadRequest)
	now, err := a.Offer(t.Context(), "levels", 0)
	require.NoError(t, err)
	assert.Equal(t, int64(1), now.Number, "nothing of it was offered")
	again := publish("offers/levels.yaml", map[string]string{"offers/levels.yaml": strings.Replace(made.body, "title:", "title: Levels of", 1)})
	require.Equal(t, http.StatusCreated, again.status, again.body)
	require.NoError(t, json.Unmarshal([]byte(again.body), &o))
	assert.Equal(t, int64(2), o.Number)

	reader := c.with(tokenOf(t, a, tokens.Wish{Name: "reader", Limit: guard.Limit{Rights: []guard.Right{guard.Read}}}))
	for _, at := range []string{"/templates/offer?offer=mine", "/offers?file=offers/levels.yaml"} {
		got := reader.ask("POST", at, with(t, gauges, map[string]string{"offers/levels.yaml": made.body}), zip)
		assert.Equal(t, http.StatusForbidden, got.status, "%s: %s", at, got.body)
	}
	wrong := c.ask("POST", "/templates/offer?offer=mine&input=lake", archive(t, gauges), zip)
	assert.Equal(t, http.StatusBadRequest, wrong.status)
	wrong = c.ask("POST", "/templates/offer?offer=mine", "no archive", zip)
	assert.Equal(t, http.StatusBadRequest, wrong.status)
}
