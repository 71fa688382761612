package op

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the table of operations anew")

const page = "../../../../docs/operations.md"

// rendered is the documentation's table of operations.
func rendered() string {
	var b strings.Builder
	b.WriteString("# Operations\n\nWhat a step of a plan can do: the field `op`. Made from `internal/core/plan/op/rows.go`: `go test ./internal/core/plan/op -update`.\n\n" +
		"| operation | what it does | what stands | carries | taken back by | after a run that broke off |\n|---|---|---|---|---|---|\n")
	for _, r := range All() {
		var back []string
		for _, o := range []Op{r.Inverse, r.Undo} {
			if o != "" {
				back = append(back, fmt.Sprintf("`%s`", o))
			}
		}
		if len(back) == 0 {
			back = []string{"nothing: " + r.Final}
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s | %s |\n", r.Op, r.Means, r.Effect, r.Payload, strings.Join(back, " or "), r.Repeat)
	}
	return b.String()
}

func TestEveryOperationIsDocumented(t *testing.T) {
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(rendered()), 0o644))
	}
	have, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Equal(t, rendered(), string(have), "docs/operations.md is not as the rows are; write it anew with -update")
}

const planSchema = "../../../../schemas/plan.schema.json"

// inSchema is where the schema of plans lists the operations.
var inSchema = regexp.MustCompile(`("op": \{\s+"enum": \[\n)(\s+"create",(?s:.*?))(\n\s+\])`)

func TestTheSchemaKnowsEveryOperation(t *testing.T) {
	data, err := os.ReadFile(planSchema)
	require.NoError(t, err)
	if *update {
		var lines []string
		for _, r := range All() {
			lines = append(lines, fmt.Sprintf("            %q", r.Op))
		}
		data = inSchema.ReplaceAll(data, []byte("${1}"+strings.Join(lines, ",\n")+"${3}"))
		require.NoError(t, os.WriteFile(planSchema, data, 0o644))
	}
	var schema struct {
		Defs map[string]struct {
			Properties map[string]struct {
				Enum []Op `json:"enum"`
			} `json:"properties"`
		} `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(data, &schema))
	var all []Op
	for _, r := range All() {
		all = append(all, r.Op)
	}
	assert.ElementsMatch(t, all, schema.Defs["step"].Properties["op"].Enum)
}
