package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"andamio/internal/core/estate"
	"andamio/internal/core/printable"
	"andamio/internal/core/tosca"
	"andamio/internal/reply"
	"andamio/internal/service/templates"
)

func (s *shared) check() *cobra.Command {
	var preset, estateFile string
	var p place
	cmd := &cobra.Command{
		Use:   "check TEMPLATE",
		Short: "Say what is wrong with a template, and where",
		Long: `Reads a template (a file, a folder, an archive, or a revision of a repository) with its presets and prints every
diagnostic with its place, the other place involved and what to write instead. With an estate (--estate, or
estate.json beside the template) it also finds what the template asks of the sites and none of them offers.
Exits with 1 if there are mistakes; doubts alone do not fail. andamio explain CODE says more of a code.`,
		Args: p.templateArg,
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := s.template(cmd.Context(), &p, args)
			if err != nil {
				return err
			}
			e, err := estateBeside(t, estateFile)
			if err != nil {
				return err
			}
			own, err := s.rules(cmd.Context())
			if err != nil {
				return err
			}
			diags, err := t.Check(preset, e, own)
			if err != nil {
				return usageError{err}
			}
			if diags.Errors() > 0 {
				return s.mistakes(t, diags)
			}
			if s.json {
				return checkValue.print(s, reply.CheckedOf(t.Name, diags))
			}
			s.printDiagnostics(t, diags)
			return nil
		},
	}
	cmd.Flags().StringVar(&preset, "preset", "", "check with the inputs of this preset only")
	cmd.Flags().StringVar(&estateFile, "estate", "", "JSON file that describes the sites")
	p.flags(cmd)
	return cmd
}

// estateBeside is the estate named, or the one beside the template; nil if there is neither.
func estateBeside(t *templates.Template, file string) (*estate.Estate, error) {
	if file == "" && t.Folder != "" {
		file = besideTemplate(t)
	}
	if file == "" {
		return nil, nil
	}
	return readEstate(file)
}

// printDiagnostics prints each with its source line and the place marked, and the line of the other place involved.
func (s *shared) printDiagnostics(t *templates.Template, diags tosca.Diagnostics) {
	lines := sourceLines{t: t, files: map[string][]string{}}
	for _, d := range diags {
		fmt.Fprintf(s.out, "%s: %s: %s [%s]\n", lines.place(d.Pos), d.Severity, printable.Clean(d.Message), d.Code)
		if line, ok := lines.at(d.Pos); ok {
			shown, mark := excerpt(line, d.Col, d.Width)
			fmt.Fprintf(s.out, "  %5d │ %s\n        │ %s\n", d.Line, shown, mark)
		}
		if d.Hint != "" {
			fmt.Fprintf(s.out, "        → %s\n", printable.Clean(d.Hint))
		}
		if d.Related != nil {
			if line, ok := lines.at(*d.Related); ok {
				shown, mark := excerpt(line, d.Related.Col, 1)
				where := ""
				if d.Related.File != d.File {
					where = " " + lines.place(*d.Related).String()
				}
				fmt.Fprintf(s.out, "  %5d │ %s\n        │ %s%s\n", d.Related.Line, shown, mark, where)
			} else {
				fmt.Fprintf(s.out, "        → see %s\n", d.Related)
			}
		}
	}
	if len(diags) == 0 {
		fmt.Fprintf(s.out, "%s: %s, nothing wrong\n", t.Name, printable.Count(len(t.Nodes), "node template"))
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

// sourceLines finds lines of a template's files.
type sourceLines struct {
	t     *templates.Template
	files map[string][]string
}

func (l sourceLines) at(p tosca.Pos) (string, bool) {
	data := l.t.Text(p.File)
	if data == nil {
		return "", false
	}
	if l.files[p.File] == nil {
		l.files[p.File] = strings.Split(string(data), "\n")
	}
	lines := l.files[p.File]
	if p.Line < 1 || p.Line > len(lines) {
		return "", false
	}
	return strings.TrimRight(lines[p.Line-1], "\r"), true
}

// place is where a line is to be found on disk.
func (l sourceLines) place(p tosca.Pos) tosca.Pos {
	if l.t.Folder != "" && l.t.Text(p.File) != nil {
		p.File = filepath.Join(l.t.Folder, p.File)
	}
	return p
}
