package plan_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"andamio/internal/core/estate"
	"andamio/internal/core/placement"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/rules"
	"andamio/internal/core/topology"
	"andamio/internal/core/tosca"
	"andamio/internal/core/tosca/slips"
	"andamio/internal/golden"
)

// planned is what a template comes to at an estate, with what is said of it: its plan as it is written.
func planned(known []byte, open func(string) ([]byte, error)) string {
	e, err := estate.Read(known) // anew: a clone takes room
	if err != nil {
		return err.Error()
	}
	tmpl, diags := tosca.Read("template.yaml", open)
	if diags.Errors() > 0 {
		return "it is no template" // which is held elsewhere
	}
	design, found := topology.Build(tmpl, nil, topology.Options{Standing: standing(e)})
	if design == nil || found.Errors() > 0 {
		return "it is no design"
	}
	var questions []string
	for _, q := range rules.Default().Questions {
		questions = append(questions, q.Name)
	}
	said := plan.Policies(design, questions)
	problem := plan.Problem(design, e)
	said = append(said, plan.Offers(design, problem)...)
	said.Sort()
	if err := rules.Default().Apply(&problem, nil); err != nil {
		return err.Error()
	}
	placed, err := placement.Solve(problem, placement.Options{Effort: 0.1})
	if err != nil {
		return said.Error() + err.Error()
	}
	p, err := plan.Compile(design, placed, e, plan.Options{Preset: "x"})
	if err != nil {
		return said.Error() + err.Error()
	}
	return said.Error() + writtenOf(p) + again(p, e)
}

// writtenOf is a plan as it is written, or why it cannot be.
func writtenOf(p *plan.Plan) string {
	text, err := p.Write()
	if err != nil {
		return err.Error()
	}
	back, err := plan.Read(text)
	if err != nil {
		return "it cannot be read as it is written: " + err.Error()
	}
	if same, err := back.Write(); err != nil || string(same) != string(text) {
		return fmt.Sprintf("it is not read as it is written: %v", err)
	}
	return string(text) + plan.Losing(p)
}

// again is the same once more, under another name.
func again(p *plan.Plan, e *estate.Estate) string {
	other, err := plan.Clone(p, "Other One", e)
	if err != nil {
		return "\n" + err.Error()
	}
	return "\n" + writtenOf(other)
}

// TestSlipsArePlannedAsRecorded makes slips in each line of templates, and holds by their sums what is planned of those that are still templates.
func TestSlipsArePlannedAsRecorded(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile(example + "/estate.json")
	require.NoError(t, err)
	with := func(text string, open func(string) ([]byte, error)) func(string) ([]byte, error) {
		return func(name string) ([]byte, error) {
			if name == "template.yaml" {
				return []byte(text), nil
			}
			return open(name)
		}
	}
	var out strings.Builder
	for _, name := range []string{"borrowed", "by-hand", "gauge-chain", "one-door", "words", "level-log", "relay-tiers", "flood-watch"} {
		dir := "../../../examples/" + name
		e := data
		if own, err := os.ReadFile(dir + "/estate.json"); err == nil {
			e = own
		}
		open := func(name string) ([]byte, error) { return os.ReadFile(filepath.Join(dir, name)) }
		source, err := open("template.yaml")
		require.NoError(t, err)
		every := map[bool]int{true: 18, false: 1}[name == "flood-watch"] // which takes long
		out.WriteString(slips.Sums(every, golden.Sum, os.Getenv("SHOW_SLIPS"), t.Logf, name, string(source), func(text string) string { return planned(e, with(text, open)) }))
	}
	tricky, err := filepath.Glob("../topology/testdata/tricky/*.txtar")
	require.NoError(t, err)
	for _, path := range tricky {
		archive, err := txtar.ParseFile(path)
		require.NoError(t, err)
		open := func(name string) ([]byte, error) {
			for _, f := range archive.Files {
				if f.Name == name {
					return f.Data, nil
				}
			}
			return nil, os.ErrNotExist
		}
		source, err := open("template.yaml")
		require.NoError(t, err)
		out.WriteString(slips.Sums(2, golden.Sum, os.Getenv("SHOW_SLIPS"), t.Logf, filepath.Base(path), string(source), func(text string) string { return planned(data, with(text, open)) }))
	}
	golden.Is(t, "testdata/slips.txt", out.String())
}

// TestSeveralOfOneAreTold has a workflow ask two things of one node before it begins, and a balancer route to the same twice, which is once.
func TestSeveralOfOneAreTold(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile(example + "/estate.json")
	require.NoError(t, err)
	of := func(name, after, more string) *plan.Plan {
		dir := "../../../examples/" + name
		source, err := os.ReadFile(dir + "/template.yaml")
		require.NoError(t, err)
		require.Contains(t, string(source), after)
		text := planned(data, func(name string) ([]byte, error) {
			if name == "template.yaml" {
				return []byte(strings.Replace(string(source), after, after+more, 1)), nil
			}
			return os.ReadFile(filepath.Join(dir, name))
		})
		first, _, _ := strings.Cut(text, "\n}\n")
		p, err := plan.Read([]byte(first + "\n}\n"))
		require.NoError(t, err, text)
		return p
	}
	condition := "        - target: siren\n          condition: [ state: [ { equal: initial } ] ]\n"
	p := of("by-hand", condition, condition)
	require.NotNil(t, p.Step("siren-1/require:deploy"))
	require.NotNil(t, p.Step("siren-1/require:deploy.2"))
	routes := "        - application: { node: page, capability: data_endpoint }\n"
	enrolled := 0
	for _, s := range of("one-door", routes, routes).Steps {
		if s.Op == op.Enroll {
			enrolled++
		}
	}
	require.Equal(t, 2, enrolled, "each page once")
}
