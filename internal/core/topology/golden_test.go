package topology

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/core/tosca"
	"andamio/internal/golden"
)

// said is a value as it is in a design, in the same order every time.
func said(v any) string {
	switch x := v.(type) {
	case map[string]any:
		var out []string
		for _, k := range slices.Sorted(maps.Keys(x)) {
			out = append(out, k+": "+said(x[k]))
		}
		return "{" + strings.Join(out, ", ") + "}"
	case []any:
		var out []string
		for _, e := range x {
			out = append(out, said(e))
		}
		return "[" + strings.Join(out, ", ") + "]"
	case Deferred:
		return x.Func + said(x.Args)
	case string:
		return fmt.Sprintf("%q", x)
	}
	return fmt.Sprint(v)
}

// written is a design in words: all of its nodes with what they are given and how they hang together, and what is said of them.
func written(d *Design) string {
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	line("%s: inputs %s, secrets %v", d.Name, said(d.Inputs), d.Secrets)
	for _, n := range d.Nodes {
		line("%s %d × %s (%s), service %q, image %q, host %s, base %s", n.Name, n.Count, n.TypeName, n.Builds, n.Service, n.Image, nameOf(n.Host), nameOf(n.Base))
		line("  properties %s attributes %s", said(n.Properties), said(n.Attributes))
		if n.Standing != nil {
			line("  stands: %s at %s", n.Standing.Name, n.Standing.Site)
		}
		for _, c := range n.Capabilities {
			line("  capability %s (%s) %s answers %v public %v scales %v", c.Name, c.TypeName, said(c.Properties), c.Answers, c.Public, c.Scales)
		}
		for _, r := range n.Relations {
			line("  %s %s %s.%s %s", r.Name, r.Order, nameOf(r.Target), r.Capability, said(r.Properties))
			operations(line, r.Operations)
		}
		operations(line, n.Operations)
	}
	for _, s := range d.Services {
		line("service %s: %s", s.Name, s.Title)
	}
	for _, s := range d.Substituted {
		line("%s is made of %s: %v", s.Node, s.Template, s.Parts)
	}
	for _, r := range d.Rules {
		line("rule %s %s on %v: %s (%s)", r.Name, r.Kind, r.Targets, said(r.Properties), r.Because)
	}
	for _, w := range d.Workflows {
		line("workflow %s, %d preconditions, known by its name: %v", w.Name, len(w.Preconditions), d.Workflow(w.Name) == w)
		for _, s := range w.Steps {
			line("  %s on %v %s %s: %d activities, then %v, else %v", s.Name, s.Targets, s.Relation, s.Host, len(s.Activities), s.OnSuccess, s.OnFailure)
		}
	}
	for _, o := range d.Outputs {
		line("output %s: %s", o.Name, said(o.Value))
	}
	for _, n := range d.Notes {
		line("note: %s", n)
	}
	return out.String()
}

func operations(line func(string, ...any), all Operations) {
	for _, o := range all {
		var given []string
		for _, a := range o.Inputs {
			given = append(given, a.Name+": "+said(a.Value))
		}
		line("    %s.%s %s %v %v → %v %s %g", o.Interface, o.Name, o.Script, o.Dependencies, given, o.Outputs, o.Host, o.Timeout)
	}
}

func nameOf(n *Node) string {
	if n == nil {
		return "none"
	}
	return n.Name
}

// standing is what stands at the sites of an example.
func standing(t *testing.T, dir string) []Existing {
	t.Helper()
	data, err := os.ReadFile(dir + "/estate.json")
	if err != nil {
		return nil
	}
	e, err := estate.Read(data)
	require.NoError(t, err)
	var out []Existing
	for _, at := range e.Sites {
		for _, s := range at.Standing {
			out = append(out, Existing{Name: s.Name, Type: s.Type, Site: at.Name, Properties: s.Properties, Capabilities: s.Capabilities, Attributes: s.Attributes})
		}
	}
	return out
}

// TestDesignsOfAllExamplesAreAsRecorded writes down the design of each example, in each of its presets; side by side and one after another they are alike.
func TestDesignsOfAllExamplesAreAsRecorded(t *testing.T) {
	dirs, err := filepath.Glob("../../../examples/*/template.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, dirs)
	for _, file := range dirs {
		dir := filepath.Dir(file)
		tmpl, diags := tosca.Read("template.yaml", func(name string) ([]byte, error) { return os.ReadFile(filepath.Join(dir, name)) })
		require.Zero(t, diags.Errors(), diags.Error())
		presets, err := filepath.Glob(dir + "/presets/*.yaml")
		require.NoError(t, err)
		for _, preset := range append([]string{""}, presets...) {
			name := filepath.Base(dir)
			var text []byte
			if preset != "" {
				text, err = os.ReadFile(preset)
				require.NoError(t, err)
				name += "-" + strings.TrimSuffix(filepath.Base(preset), ".yaml")
			}
			given, diags := tosca.ReadInputs("preset", text)
			require.Empty(t, diags)
			d, diags := Build(tmpl, given, Options{Standing: standing(t, dir), Partial: true})
			got := diags.Error() + "\n"
			if d != nil {
				got += written(d)
			}
			golden.Is(t, "testdata/"+name+".txt", got)
		}
	}
}
