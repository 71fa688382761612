package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/core/tosca"
)

func (s *shared) check() *cobra.Command {
	var preset string
	cmd := &cobra.Command{
		Use:   "check TEMPLATE",
		Short: "Say what is wrong with a template, and where",
		Long: `Reads a template (a file, or a folder with template.yaml) and prints every diagnostic with its place and what to
write instead. Exits with 1 if there are mistakes; doubts alone do not fail.`,
		Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			t, err := app.OpenTemplate(args[0])
			if err != nil {
				return err
			}
			diags, err := diagnose(t, preset)
			if err != nil {
				return usage{err}
			}
			if diags.Errors() > 0 {
				return s.mistakes(t, diags)
			}
			if s.json {
				return s.printJSON(map[string]any{"template": t.Name, "diagnostics": orEmpty(diags), "mistakes": 0})
			}
			s.printDiagnostics(t, diags)
			return nil
		},
	}
	cmd.Flags().StringVar(&preset, "preset", "", "check with the inputs of this preset")
	return cmd
}

// diagnose gathers a template's diagnostics and those of its presets, or of one of them. The design is evaluated too
// where all inputs have values.
func diagnose(t *app.Template, preset string) (tosca.Diagnostics, error) {
	if preset != "" {
		p, err := t.Preset(preset)
		if err != nil {
			return nil, err
		}
		_, diags := t.Design(p.Inputs, p.Diagnostics)
		return diags, nil
	}
	diags := t.Diagnostics
	for _, p := range t.Presets {
		_, found := t.Design(p.Inputs, p.Diagnostics)
		diags = append(diags, found[min(len(t.Diagnostics), len(found)):]...)
	}
	if len(t.Presets) == 0 && t.Diagnostics.Errors() == 0 {
		_, diags = t.Design(tosca.Inputs{}, nil)
	}
	return diags, nil
}

func orEmpty(d tosca.Diagnostics) tosca.Diagnostics {
	if d == nil {
		return tosca.Diagnostics{}
	}
	return d
}

// printDiagnostics prints each with its source line and the place marked.
func (s *shared) printDiagnostics(t *app.Template, diags tosca.Diagnostics) {
	for _, d := range diags {
		where := d.Pos
		if t.Sources[d.File] != nil {
			where.File = filepath.Join(t.Dir, d.File)
		}
		fmt.Fprintf(s.out, "%s: %s: %s [%s]\n", where, d.Severity, printable.Clean(d.Message), d.Code)
		if line, ok := sourceLine(t, d.Pos); ok {
			fmt.Fprintf(s.out, "  %5d │ %s\n", d.Line, printable.Clean(line))
			fmt.Fprintf(s.out, "        │ %s%s\n", strings.Repeat(" ", max(d.Col-1, 0)), strings.Repeat("^", max(d.Width, 1)))
		}
		if d.Hint != "" {
			fmt.Fprintf(s.out, "        → %s\n", printable.Clean(d.Hint))
		}
		if d.Related != nil {
			fmt.Fprintf(s.out, "        → see %s\n", d.Related)
		}
	}
	if len(diags) == 0 {
		fmt.Fprintf(s.out, "%s: %d node templates, nothing wrong\n", t.Name, len(t.Nodes))
		return
	}
	fmt.Fprintf(s.out, "%s, %s\n", count(diags.Errors(), "mistake"), count(len(diags)-diags.Errors(), "doubt"))
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func sourceLine(t *app.Template, at tosca.Pos) (string, bool) {
	lines := strings.Split(string(t.Sources[at.File]), "\n")
	if at.Line < 1 || at.Line > len(lines) || t.Sources[at.File] == nil {
		return "", false
	}
	return strings.TrimRight(lines[at.Line-1], "\r"), true
}
