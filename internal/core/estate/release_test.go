package estate

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReleasesAgreeAsFarAsTheyAreSaid(t *testing.T) {
	image := Release{Architecture: "x86_64", Distribution: "debian", Version: "12"}
	for _, c := range []struct {
		wanted Release
		may    bool
	}{
		{Release{}, true},
		{Release{Distribution: "Debian"}, true},
		{Release{Version: "12.0"}, true},
		{Release{Version: "12.4"}, true},
		{Release{Version: "12"}, true},
		{image, true},
		{Release{Distribution: "fedora"}, false},
		{Release{Version: "1.2"}, false},
		{Release{Version: "13.0"}, false},
		{Release{Architecture: "arm64"}, false},
		{Release{Distribution: "debian", Version: "11.0"}, false},
	} {
		assert.Equal(t, c.may, image.May(c.wanted), "%+v", c.wanted)
		assert.True(t, Release{}.May(c.wanted), "what an image does not say rules nothing out: %+v", c.wanted)
	}
	assert.False(t, Release{Version: "12.4"}.May(Release{Version: "12.0"}))
	assert.Equal(t, "debian 12 x86_64", image.String())
	assert.Empty(t, Release{}.String())
}
