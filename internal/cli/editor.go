package cli

import (
	"github.com/spf13/cobra"

	"andamio/internal/core/fault"
	"andamio/internal/editor"
)

func (s *shared) editor() *cobra.Command {
	return &cobra.Command{
		Use:   "editor",
		Short: "Tell an editor what is wrong with a template while it is written",
		Long: `Speaks the Language Server Protocol on standard input and output: diagnostics for every file of the template that an
open file belongs to, and on hover what their codes mean. Let the editor start it for YAML files of templates.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			// the protocol asks for 1 where a session ends that was not shut down (Language Server Protocol 3.17, Exit Notification)
			return fault.As(answeredNo, editor.Serve(cmd.Context(), s.in, s.out))
		},
	}
}
