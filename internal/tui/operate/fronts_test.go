package operate

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/front"
	"andamio/internal/service/fronts"
)

// TestNamesInFrontAreShown holds that the names in front of the selected deployment are beside it, with how many are up there.
func TestNamesInFrontAreShown(t *testing.T) {
	v := standing(t)
	of := func(deployment int64, up ...bool) (out []front.Member) {
		for _, is := range up {
			out = append(out, front.Member{Deployment: deployment, Up: is})
		}
		return out
	}
	id := v.all[0].ID
	v.Update(recalled{fronts: []fronts.Status{{Name: "map.near.ribera.test", Members: of(id, true, true)}, {Name: "warn.near.ribera.test", Members: of(id, true, false)}, {Name: "lost.near.ribera.test", Members: of(id, false)},
		{Name: "other.near.ribera.test", Members: of(99, true)}, {Name: "none.near.ribera.test"}}})
	text := draw(v, 160, 60)
	assert.Regexp(t, `in front`, text)
	assert.Regexp(t, `■ map.near.ribera.test +2 of 2 up`, text)
	assert.Regexp(t, `‖ warn.near.ribera.test +1 of 2 up`, text)
	assert.Regexp(t, `✕ lost.near.ribera.test +0 of 1 up`, text)
	assert.NotContains(t, text, "other.near")
	assert.NotContains(t, text, "none.near")
}
