package naming

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
)

func TestNamesAreMadeByTheRule(t *testing.T) {
	v := Values{Deployment: "watch", Service: "gauge", Node: "part.node", Index: "2", Site: "dam", Zone: "a"}
	for template, want := range map[string]string{"": "part-node-2", "${site}-${service}-${index}": "dam-gauge-2", "${deployment}.${zone}": "watch-a"} {
		got, err := Name(&estate.Naming{Template: template}, v)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	got, err := Name(nil, v)
	require.NoError(t, err)
	assert.Equal(t, "part-node-2", got)
	_, err = Name(&estate.Naming{Template: "${colour}-${index}"}, v)
	assert.ErrorContains(t, err, "asks for ${colour}; there are deployment, index, node, service, site, zone")
}

func TestPatternsHoldForTheWholeName(t *testing.T) {
	rule := &estate.Naming{Pattern: "[a-z]{3}"}
	assert.True(t, Fits(rule, "abc"))
	assert.False(t, Fits(rule, "abcd"))
	assert.True(t, Fits(nil, "anything"))
	s := &estate.Site{Name: "dam", Zones: []estate.Zone{{Name: "z"}}, Naming: &estate.Naming{Template: "${zone}-${node}"}}
	assert.Equal(t, "z-gauge-node", Preview(s))
	s.Naming.Pattern = "[0-9]+"
	assert.Contains(t, Preview(s), "against its own pattern")
	s.Naming.Template = "${x}"
	assert.Contains(t, Preview(s), "asks for ${x}")
}
