package cli

import (
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"andamio/internal/core/tosca"
	"andamio/internal/service/templates"
)

func (s *shared) explain() *cobra.Command {
	return &cobra.Command{
		Use:   "explain [CODE]",
		Short: "Say what a code of a diagnostic means, with an example that triggers it",
		Args:  cobra.MaximumNArgs(1),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return codes(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 {
				return s.explainAll()
			}
			i := slices.IndexFunc(tosca.Explanations, func(e tosca.Explanation) bool { return string(e.Code) == args[0] })
			if i < 0 {
				hint := "andamio explain lists them all"
				if near := tosca.Nearest(args[0], codes()); near != "" {
					hint = fmt.Sprintf("did you mean %q?", near)
				}
				return usageError{fmt.Errorf("there is no code %q; %s", args[0], hint)}
			}
			return s.explainOne(tosca.Explanations[i])
		},
	}
}

func codes() []string {
	var out []string
	for _, e := range tosca.Explanations {
		out = append(out, string(e.Code))
	}
	return out
}

func (s *shared) explainAll() error {
	if s.json {
		return explanationsValue.print(s, tosca.Explanations)
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for _, e := range tosca.Explanations {
		fmt.Fprintf(w, "%s\t%s\n", e.Code, e.Meaning)
	}
	return w.Flush()
}

func (s *shared) explainOne(e tosca.Explanation) error {
	if s.json {
		return explanationValue.print(s, e)
	}
	fmt.Fprintf(s.out, "%s\n\n%s\n\nFor example:\n\n", e.Code, e.Meaning)
	for _, line := range strings.Split(strings.TrimSuffix(e.Example, "\n"), "\n") {
		fmt.Fprintf(s.out, "    %s\n", line)
	}
	if e.More != nil {
		for _, name := range sortedNames(e.More) {
			fmt.Fprintf(s.out, "\nwith %s:\n\n", name)
			for _, line := range strings.Split(strings.TrimSuffix(e.More[name], "\n"), "\n") {
				fmt.Fprintf(s.out, "    %s\n", line)
			}
		}
	}
	fmt.Fprintln(s.out, "\nwhich gives:")
	diags, err := templates.Trigger(e)
	if err != nil {
		return err
	}
	for _, d := range diags {
		fmt.Fprintf(s.out, "\n    line %d: %s\n", d.Line, d.Message)
		if d.Hint != "" {
			fmt.Fprintf(s.out, "    → %s\n", d.Hint)
		}
	}
	return nil
}

func sortedNames(m map[string]string) []string {
	var out []string
	for name := range m {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
