package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/core/elevation"
	"andamio/internal/core/fault"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
)

func (s *shared) export() *cobra.Command {
	var what, out, by string
	cmd := &cobra.Command{
		Use:   "export PLAN|RUN",
		Short: "Write the elevation or timeline of a plan or run as SVG or PDF",
		Long: `Draws a plan file, or a run of the workspace by its number, as its elevation or timeline. The ending of the output's
name, svg or pdf, says the format.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			bays, ok := map[string]elevation.By{"site": elevation.BySite, "service": elevation.ByService}[by]
			if !ok {
				return usageError{fmt.Errorf("--by takes site or service, not %q", by)}
			}
			state, err := s.stateOf(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if out == "" {
				out = what + ".svg"
			}
			if ext := strings.TrimPrefix(filepath.Ext(out), "."); ext != "svg" && ext != "pdf" {
				return usageError{fmt.Errorf("the output's name ends in .svg or .pdf, not %q", out)}
			}
			if err := deployments.ExportPicture(state, what, bays, time.Now(), out); err != nil {
				return err
			}
			if s.json {
				return writtenValue.print(s, written{out})
			}
			fmt.Fprintln(s.out, "written:", out)
			return nil
		},
	}
	oneOf(cmd.Flags(), &what, "as", "elevation", "what to draw: elevation or timeline", "elevation", "timeline")
	cmd.Flags().StringVarP(&out, "output", "o", "", "file to write (default: the picture's name with .svg)")
	oneOf(cmd.Flags(), &by, "by", "site", "bays of the elevation: site or service", "site", "service")
	return cmd
}

// stateOf is the state of a plan file, or of a run by its number.
func (s *shared) stateOf(ctx context.Context, name string) (*run.State, error) {
	if data, err := os.ReadFile(name); err == nil {
		p, err := plan.Read(data)
		if err != nil {
			return nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", name, err))
		}
		return run.New(p), nil
	}
	a, err := s.open(ctx)
	if err != nil {
		return nil, err
	}
	defer a.Close()
	id, err := findRun(ctx, a, []string{name})
	if err != nil {
		return nil, usageError{fmt.Errorf("%s is neither a plan file nor the number of a run", name)}
	}
	return a.Replay(ctx, id)
}
