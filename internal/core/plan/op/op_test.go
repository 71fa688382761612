package op

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestEveryOperationHasAWholeRow(t *testing.T) {
	assert.Len(t, rows, len(table), "no operation has two rows")
	for _, r := range table {
		assert.NotZero(t, r.Effect, r.Op)
		assert.NotZero(t, r.Repeat, "%s: may a run that broke off do it again?", r.Op)
		assert.NotEmpty(t, r.Means, r.Op)
		if r.Inverse == "" && r.Undo == "" {
			assert.NotEmpty(t, r.Final, "%s has no inverse, and does not say why", r.Op)
		} else {
			assert.Empty(t, r.Final, r.Op)
		}
		for _, back := range []Op{r.Inverse, r.Undo} {
			if back != "" {
				assert.True(t, back.Takes(), "%s is taken back by %s, which takes nothing back", r.Op, back)
				assert.True(t, r.Op.Stays(), "%s leaves nothing standing that could be taken back", r.Op)
			}
		}
		if r.AtSite {
			assert.Equal(t, Marked, r.Repeat, "what a site builds is looked for by its mark")
		}
		if r.Undo != "" {
			assert.Equal(t, Script, r.Payload, r.Op)
		}
	}
}

func TestWhatIsNoOperationIsUnknown(t *testing.T) {
	for _, o := range []Op{"", "levitate", "Create", "create "} {
		assert.False(t, o.Known(), o)
		assert.Zero(t, o.Row(), o)
		assert.False(t, o.Stays() || o.Takes() || o.Notes() || o.AtSite() || o.Waits() || o.Copies(), o)
	}
}

func TestIDsAreTakenApartAsTheyWereMade(t *testing.T) {
	for text, want := range map[string]ID{
		"web-1/create":               {"web-1", Create, ""},
		"web-1/attach:data-1":        {"web-1", Attach, "data-1"},
		"web-1/connect:db.add_x.y-1": {"web-1", Connect, "db.add_x.y-1"},
		"alto/t-9/mend":              {"alto/t-9", Mend, ""},
		"web-1@alto/halt":            {"web-1@alto", Halt, ""},
		"web-1":                      {Resource: "web-1"},
		"web-1/levitate":             {Resource: "web-1/levitate"},
		"":                           {},
	} {
		assert.Equal(t, want, ParseID(text), text)
	}
	rapid.Check(t, func(t *rapid.T) {
		id := ID{rapid.StringMatching(`[a-z]{1,8}(-[0-9])?(/t-[0-9]+)?(@[a-z]+)?`).Draw(t, "resource"),
			rapid.SampledFrom(table).Draw(t, "row").Op, rapid.StringMatching(`([a-z.]+(:[a-z]+|/create)?)?`).Draw(t, "part")}
		assert.Equal(t, id, ParseID(id.String()))
		assert.Equal(t, id.Resource, ResourceOf(id.String()))
		assert.Equal(t, id.String(), id.Op.For(id.Resource, id.Part))
	})
}
