package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"
)

type screenOpts struct {
	ascii bool
	light bool
	demo  bool
}

func addScreenFlags(cmd *cobra.Command) {
	cmd.Flags().Bool("ascii", false, "draw with ASCII characters only")
	cmd.Flags().Bool("light", false, "colours for a light background")
}

func screenOptions(cmd *cobra.Command) screenOpts {
	ascii, _ := cmd.Flags().GetBool("ascii")
	light, _ := cmd.Flags().GetBool("light")
	return screenOpts{ascii: ascii, light: light}
}

func (s *shared) screens(ctx context.Context, o screenOpts) error { return errors.New("soon") }

func (s *shared) export() *cobra.Command { return &cobra.Command{Use: "export"} }
