package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"andamio/internal/core/printable"
	"andamio/internal/core/tosca"
)

// types lists and explains what a template may use.
func (s *shared) types() *cobra.Command {
	var p place
	cmd := &cobra.Command{
		Use: "types [NAME]", Short: "List the types that a template may use, or say what one has and needs", Args: cobra.MaximumNArgs(1),
		Long: `Lists the types of the standard (TOSCA Simple Profile in YAML 1.3, section 5) and those that come with Andamio; with --template those of a template
too. With a name, in full or short, it says what the type derives from, its properties with their defaults and bounds, what it offers to others and
needs of them, and its operations.`,
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return typeNames(tosca.Known()), cobra.ShellCompDirectiveNoFileComp
		},
	}
	var template string
	cmd.Flags().StringVar(&template, "template", "", "with the types of this template: a file, folder or archive")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		known := tosca.Known()
		if template != "" {
			t, err := s.template(cmd.Context(), &p, []string{template})
			if err != nil {
				return err
			}
			known = t.Types
		}
		if len(args) == 0 {
			return s.listTypes(known)
		}
		return s.explainType(known, args[0])
	}
	return cmd
}

func typeNames(known *tosca.Types) []string {
	var out []string
	for _, kind := range tosca.Kinds() {
		for _, name := range known.Names(kind) {
			out = append(append(out, name), known.Explain(known.Find(kind, name)).Short...)
		}
	}
	return out
}

func (s *shared) listTypes(known *tosca.Types) error {
	var all []tosca.TypeExplained
	for _, kind := range tosca.Kinds() {
		for _, name := range known.Names(kind) {
			all = append(all, known.Explain(known.Find(kind, name)))
		}
	}
	if s.json {
		return typesValue.print(s, all)
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	kind := ""
	for _, t := range all {
		if t.Kind != kind {
			kind = t.Kind
			fmt.Fprintf(w, "%s\t\t\n", strings.ToUpper(kind+"s"))
		}
		short := ""
		if len(t.Short) > 0 {
			short = t.Short[0]
		}
		fmt.Fprintf(w, "  %s\t%s\t%s\n", printable.Clean(t.Name), printable.Clean(short), printable.Clean(firstSentence(t.Description)))
	}
	return w.Flush()
}

// firstSentence is as much of a description as fits beside a name.
func firstSentence(text string) string {
	head, _, more := strings.Cut(strings.Join(strings.Fields(text), " "), ". ")
	if more {
		head += "."
	}
	return head
}

// explainType explains all types of a name: there may be one of several kinds.
func (s *shared) explainType(known *tosca.Types, name string) error {
	var all []tosca.TypeExplained
	for _, kind := range tosca.Kinds() {
		if t := known.Find(kind, name); t != nil {
			all = append(all, known.Explain(t))
		}
	}
	if len(all) == 0 {
		hint := "andamio types lists them all"
		if near := tosca.Nearest(name, typeNames(known)); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return usageError{fmt.Errorf("there is no type %q; %s", name, hint)}
	}
	if s.json {
		return typesValue.print(s, all)
	}
	for i := range all {
		if i > 0 {
			fmt.Fprintln(s.out)
		}
		printType(s.out, &all[i])
	}
	return nil
}

func printType(out io.Writer, t *tosca.TypeExplained) {
	kind := t.Kind
	if t.Abstract {
		kind = "abstract " + kind
	}
	fmt.Fprintf(out, "%s  (%s)\n", printable.Clean(t.Name), kind)
	line := func(what string, words []string) {
		if len(words) > 0 {
			fmt.Fprintf(out, "%-14s%s\n", what, printable.Clean(strings.Join(words, ", ")))
		}
	}
	if t.Description != "" {
		fmt.Fprintf(out, "\n%s\n\n", printable.Clean(strings.Join(strings.Fields(t.Description), " ")))
	}
	line("short", t.Short)
	line("derives from", t.DerivedFrom)
	line("leads to", t.ValidTargets)
	line("required by", t.ValidSources)
	for _, part := range []struct {
		name   string
		fields []tosca.FieldExplained
	}{{"properties", t.Properties}, {"attributes", t.Attributes}, {"capabilities", t.Capabilities}, {"requirements", t.Requirements}} {
		if len(part.fields) == 0 {
			continue
		}
		fmt.Fprintf(out, "\n%s\n", part.name)
		w := tabwriter.NewWriter(out, 0, 0, 2, ' ', 0)
		for _, f := range part.fields {
			fmt.Fprintf(w, "  %s\t%s\t%s\t%s\n", printable.Clean(f.Name), printable.Clean(f.Type), printable.Clean(strings.Join(terms(&f), ", ")), printable.Clean(firstSentence(f.Description)))
		}
		_ = w.Flush()
	}
	if len(t.Operations) > 0 {
		fmt.Fprintln(out, "\noperations")
		for _, op := range t.Operations {
			fmt.Fprintf(out, "  %s\n", printable.Clean(op))
		}
	}
}

// terms are what a field has to be like.
func terms(f *tosca.FieldExplained) []string {
	out := slices.Clone(f.Constraints)
	switch {
	case f.Occurrences != "":
		out = append(out, f.Occurrences)
	case f.Required:
		out = append(out, "required")
	}
	if f.Default != "" {
		out = append(out, "default "+f.Default)
	}
	return out
}
