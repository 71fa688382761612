package inventory_test

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/inventory"
)

// texts that tables and relations could stumble over.
var awkward = rapid.OneOf(rapid.StringMatching(`[a-z0-9 ,;="%\n'é☃+@|-]{0,12}`), rapid.SampledFrom([]string{" lead", "trail ", `"`, `""`, ",", "a\nb", "=%", "x=y z", "=1+2", "'=1", "''", "'", "-5", "+x"}))

func records(t *rapid.T) inventory.Records {
	var out inventory.Records
	for i := range rapid.IntRange(0, 8).Draw(t, "n") {
		r := inventory.Record{ID: fmt.Sprintf("%d%s", i, awkward.Draw(t, "id")), Class: rapid.SampledFrom(inventory.Classes).Draw(t, "class"), Name: awkward.Draw(t, "name"),
			Site: awkward.Draw(t, "site"), Region: awkward.Draw(t, "region"), Provider: awkward.Draw(t, "provider"), Mark: awkward.Draw(t, "mark"), Serial: awkward.Draw(t, "serial"),
			Attributes: map[string]string{}, Origin: inventory.Origin{Account: awkward.Draw(t, "account"), Deployment: awkward.Draw(t, "deployment"), Who: awkward.Draw(t, "who")}}
		for range rapid.IntRange(0, 4).Draw(t, "attributes") {
			r.Attributes[rapid.SampledFrom([]string{"cores", "state", "tag.owner", "tag.a b", "x"}).Draw(t, "attribute")] = awkward.Draw(t, "value")
		}
		for range rapid.IntRange(0, 2).Draw(t, "relations") {
			r.Relations = append(r.Relations, inventory.Relation{Kind: inventory.RunsOn, To: "id" + awkward.Draw(t, "to")})
		}
		if rapid.Bool().Draw(t, "seen") {
			r.Seen = time.Unix(rapid.Int64Range(1, 4e9).Draw(t, "at"), rapid.Int64Range(0, 999_999_999).Draw(t, "ns")).UTC()
		}
		out = append(out, r.Normal())
	}
	return out
}

// TestTablesAndLinesGoRoundExactly writes records and reads them: they are the same, and writing them again gives the
// same bytes.
func TestTablesAndLinesGoRoundExactly(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		want := records(t)
		table := inventory.WriteTable(want)
		read, err := inventory.ReadTable(table)
		require.NoError(t, err)
		got, err := read.All()
		require.NoError(t, err)
		require.Len(t, got, len(want))
		for i := range want {
			assert.Equal(t, want[i], got[i])
		}
		assert.Equal(t, string(table), string(inventory.WriteTable(got)))
		lines, err := inventory.WriteLines(want)
		require.NoError(t, err)
		back, err := inventory.ReadLines(lines)
		require.NoError(t, err)
		require.Len(t, back, len(want))
		for i := range want {
			assert.Equal(t, want[i], back[i])
		}
		for i := range want { // a table's digests and keys are those of the records
			assert.Equal(t, want.Digest(i), read.Digest(i))
			assert.Equal(t, want.Keys(i), read.Keys(i))
		}
	})
}

func TestBadTablesSayWhere(t *testing.T) {
	for text, says := range map[string]string{
		"":                                         "there is no header",
		"id,name\n":                                `no column "class"`,
		"id,class,id\n":                            "named twice",
		"id,class\na,instance,more\n":              "line 2: there are 3 values for 2 columns",
		"id,class\n\"a,instance\n":                 "a quote is opened and not closed",
		"id,class\n\"a\"x,instance\n":              "text after a closing quote",
		"id,class\na,instance\na,volume\n":         `line 3: the id "a" is there twice`,
		"id,class\n,instance\n":                    "line 2: the record has no id",
		"id,class\na,\n":                           "a has no class",
		"id,class,seen\na,instance,yesterday\n":    "line 2, column seen",
		"id,class,relations\na,instance,nowhere\n": "is no relation",
	} {
		table, err := inventory.ReadTable([]byte(text))
		if err == nil {
			_, err = table.All()
		}
		assert.ErrorContains(t, err, says, "%q", text)
	}
	_, err := inventory.ReadLines([]byte(`{"id":"a","class":"instance"}` + "\n" + `{"id":"b","klass":"x"}`))
	assert.ErrorContains(t, err, "line 2: this is no record")
}

// FuzzReadTable looks that no table makes the reader fall over, and that what it takes goes round.
func FuzzReadTable(f *testing.F) {
	f.Add([]byte("id,class,name\na,instance,\"x, y\"\n"))
	f.Add([]byte("id,class\n\"\"\"a\",b\r\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		table, err := inventory.ReadTable(data)
		if err != nil {
			return
		}
		all, err := table.All()
		if err != nil {
			return
		}
		again, err := inventory.ReadTable(inventory.WriteTable(all))
		require.NoError(t, err)
		got, err := again.All()
		require.NoError(t, err)
		require.Equal(t, all, got)
	})
}

// TestATableHasNoFormulas writes names that a program which shows tables would reckon with.
func TestATableHasNoFormulas(t *testing.T) {
	for in, want := range map[string]string{"=cmd|' /C calc'!A0": "'=cmd", "+1+1": "'+1+1", "-2+3": "'-2+3", "@SUM(A1)": "'@SUM", "\t=1": "=1", "'=1": "''=1", "-5.25": "-5.25", "+7": "+7", "plain": "plain"} {
		text := string(inventory.WriteTable(inventory.Records{{ID: "r", Class: inventory.Classes[0], Name: in}}))
		row := strings.Split(text, "\n")[1]
		cell := strings.TrimPrefix(strings.Split(row, ",")[2], `"`)
		if in == "\t=1" { // without the tab it is one
			want = "'=1"
		}
		assert.True(t, strings.HasPrefix(cell, want), "%q is written %q", in, row)
		if _, err := strconv.ParseFloat(in, 64); err != nil {
			assert.NotContains(t, "=+-@\t\r", cell[:1], row)
		}
	}
}
