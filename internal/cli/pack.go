package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"andamio/internal/core/printable"
	"andamio/internal/service/templates"
)

func (s *shared) pack() *cobra.Command {
	var out string
	var p place
	cmd := &cobra.Command{
		Use:   "pack TEMPLATE -o FILE.csar",
		Short: "Write a template with its files as an archive (CSAR)",
		Long: `Writes a template's folder, or a revision of a repository, as a Cloud Service Archive. The template is checked
first; one with mistakes is not packed. Equal files give equal bytes.`,
		Args: p.templateArg,
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return usageError{fmt.Errorf("name the archive to write with -o")}
			}
			packed, t, err := templates.Pack(cmd.Context(), p.of(args), out)
			if err != nil {
				return err
			}
			if packed == nil {
				return s.mistakes(t, t.Diagnostics)
			}
			return say(s, packedValue, packed, "%s: %s, %d bytes; the template is %s", out, printable.Count(packed.Files, "file"), packed.Bytes, packed.Template)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the archive to write")
	p.flags(cmd)
	return cmd
}

func (s *shared) unpack() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "unpack FILE.csar -o DIR",
		Short: "Write the files of an archive into a new folder",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if out == "" {
				return usageError{fmt.Errorf("name the folder to write with -o")}
			}
			root, err := templates.Unpack(cmd.Context(), args[0], out)
			if err != nil {
				return err
			}
			return say(s, unpackedValue, unpacked{out, root}, "%s: the template is %s", out, root)
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "the folder to write, new or empty")
	return cmd
}

// say prints a value as JSON, or a line for people.
func say[T any](s *shared, as value[T], v T, format string, args ...any) error {
	if s.json {
		return as.print(s, v)
	}
	fmt.Fprintf(s.out, format+"\n", args...)
	return nil
}
