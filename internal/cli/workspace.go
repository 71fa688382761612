package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/service/workspace"
)

func (s *shared) workspaces() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "workspace",
		Short: "Say where the workspace is kept; copy it to another place; join one that several machines have",
		Long: `A workspace is kept in its folder, or in a database of PostgreSQL, where several machines have it at once: docs/operating.md says how a team
goes about it. Each machine has a folder with the address of the database, the key that opens the credentials, and what is its own.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			k, err := a.StoredIn(ctx)
			if err != nil {
				return err
			}
			if s.json {
				return storedValue.print(s, k)
			}
			fmt.Fprintf(s.out, "kept in %s, schema %d: %s, %s, %s in the log\n", printable.Clean(k.Store), k.Schema, printable.Count(k.Deployments, "deployment"), printable.Count(k.Runs, "run"), printable.Count(int(k.Entries), "entry"))
			if k.Machines {
				fmt.Fprintf(s.out, "this machine's own is in %s\n", printable.Clean(k.Folder))
			}
			return nil
		}),
	}
	cmd.AddCommand(s.workspaceCopy(), s.workspaceJoin())
	return cmd
}

func (s *shared) workspaceCopy() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "copy FROM TO",
		Short: "Copy a workspace to where there is none: a folder, or a database",
		Long: `FROM and TO are folders, or addresses of databases of PostgreSQL: postgres://USER@HOST:PORT/DATABASE, with ?search_path=NAME where one holds
several workspaces. All that is kept is copied as it is at one moment and read back; it is what it was, or nothing is copied, and nothing is overwritten. Nobody may
be at work in FROM meanwhile. Of the two use one only: both would take the same things for theirs.

The key that opens the credentials is not copied: andamio workspace join takes it from the folder (credentials.key). The password of the database comes from
--password-file, the file ~/.pgpass or the environment (PGPASSWORD), never from the address.`,
		Args: exactly(2, "name where the workspace is, and where it is to be"),
		RunE: func(cmd *cobra.Command, args []string) error {
			password, err := passwordIn(file)
			if err != nil {
				return err
			}
			c, err := app.CopyWorkspace(cmd.Context(), args[0], args[1], password)
			if err != nil {
				return err
			}
			if s.json {
				return copiedWorkspaceValue.print(s, c)
			}
			rows := 0
			for _, n := range c.Rows {
				rows += n
			}
			fmt.Fprintf(s.out, "copied to %s, and read back as it was: %s of %d sorts, %s\n", printable.Clean(c.To), printable.Count(rows, "row"), len(c.Rows), printable.Count(len(c.Files), "file"))
			fmt.Fprintln(s.out, "the key that opens the credentials is each machine's own and was not copied")
			return nil
		},
	}
	cmd.Flags().StringVar(&file, "password-file", "", "file that holds the password of the database")
	return cmd
}

func (s *shared) workspaceJoin() *cobra.Command {
	var file, key string
	cmd := &cobra.Command{
		Use:   "join ADDRESS --workspace NEW",
		Short: "Make a folder this machine's of a workspace that is kept in a database",
		Long: `Every command with that --workspace works on the shared workspace from then on. The folder is empty or not there yet; one that is of that
workspace already is given the password and the key anew. --key names the file of the key that opens the credentials (credentials.key in the folder that the workspace was
copied from): bring it by a way on which nobody else reads it. The password of the database is kept in the folder, encrypted with that key. Machines that share a
workspace have different names, and clocks that agree within a second (NTP).`,
		Args: exactly(1, "name the address of the database"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if s.workspace == "" {
				return usageError{errors.New("name the folder of this machine with --workspace")}
			}
			password, err := passwordIn(file)
			if err != nil {
				return err
			}
			k, err := app.Join(cmd.Context(), s.workspace, args[0], password, key)
			if err != nil {
				return err
			}
			if s.json {
				return storedValue.print(s, *k)
			}
			fmt.Fprintf(s.out, "%s is this machine's of the workspace in %s\n", printable.Clean(k.Folder), printable.Clean(k.Store))
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&file, "password-file", "", "file that holds the password of the database")
	f.StringVar(&key, "key", "", "file of the key that opens the workspace's credentials")
	return cmd
}

// passwordIn is the password that a file holds; "" where none is named.
func passwordIn(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	text, err := workspace.ReadSmallFile(file)
	return strings.TrimRight(text, "\r\n"), err
}
