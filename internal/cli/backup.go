package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
)

func (s *shared) backup() *cobra.Command {
	var verify string
	var withKey bool
	cmd := &cobra.Command{
		Use:   "backup FILE",
		Short: "Write a backup of the workspace, while runs go on, or look whether one is whole",
		Long: `Writes plans, runs with their journals, deployments, inventory, connections, rules and encrypted credentials to one archive
(tar with gzip), as they are at one moment, and never over a file that is there. The key that opens the credentials is not in
it unless --with-key says so: keep it, or the passphrase, elsewhere. --verify FILE looks whether a backup is whole: the
archive, the digest of each file, and the integrity and references of the database.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 1) == (verify != "") || len(args) > 1 {
				return usageError{errors.New("name the file to write, or the one to --verify")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if verify != "" {
				b, err := app.VerifyBackup(cmd.Context(), verify)
				if err != nil {
					return err
				}
				return s.backedUp(b, verify+" is whole")
			}
			return s.with(func(ctx context.Context, a *app.App, args []string) error {
				b, err := a.Backup(ctx, args[0], withKey)
				if err != nil {
					return err
				}
				return s.backedUp(b, args[0]+" is written")
			})(cmd, args)
		},
	}
	cmd.Flags().StringVar(&verify, "verify", "", "backup to look at; nothing is written")
	cmd.Flags().BoolVar(&withKey, "with-key", false, "put the key that opens the credentials into it: whoever has the file then has them")
	return cmd
}

func (s *shared) backedUp(b *app.Backup, text string) error {
	if s.json {
		return backupValue.print(s, b)
	}
	d := b.Database
	fmt.Fprintf(s.out, "%s: %s, %s, %s of their journals, %s; made %s, schema %d\n", printable.Clean(text), printable.Count(d.Plans, "plan"), printable.Count(d.Runs, "run"),
		printable.Count(d.Events, "event"), printable.Count(d.Deployments, "deployment"), b.Made.Format("2006-01-02 15:04:05 MST"), b.Schema)
	if !b.Key {
		fmt.Fprintln(s.out, "the key or passphrase that opens the credentials is not in it")
	}
	return nil
}

func (s *shared) restore() *cobra.Command {
	return &cobra.Command{
		Use:   "restore FILE --workspace NEW",
		Short: "Make a workspace of a backup",
		Long: `Unpacks a backup as a workspace that is not there yet, or is an empty folder, once all of it was found whole; nothing is
overwritten. Runs that were under way then broke off: andamio resume goes on with them, by what the sites hold now. Restored
to two places, one of them must not be used: both would take the same things for theirs.`,
		Args: exactly(1, "name the backup"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if s.workspace == "" {
				return usageError{errors.New("name the folder of the new workspace with --workspace")}
			}
			b, err := app.Restore(cmd.Context(), args[0], s.workspace)
			if err != nil {
				return err
			}
			return s.backedUp(b, s.workspace+" is restored")
		},
	}
}
