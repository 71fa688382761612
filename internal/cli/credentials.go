package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
)

func (s *shared) credentials() *cobra.Command {
	var key bool
	cmd := &cobra.Command{
		Use:   "credentials",
		Short: "Choose what opens the credentials: a key file or a passphrase; make and list key pairs",
		Long: `Credentials of sites, secrets and private keys are in one file of the workspace, encrypted in the format age v1. It opens
with the key file beside it, with one that ANDAMIO_KEY_FILE names, or with the passphrase in ANDAMIO_PASSPHRASE.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	lock := &cobra.Command{
		Use:   "lock",
		Short: "Have the credentials open with another passphrase, or with a new key file",
		Long: `Takes the passphrase from the keyboard, or from standard input. From then on every command needs it in
ANDAMIO_PASSPHRASE, and the key file is removed. With --key a new key file is made and no passphrase is needed.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			phrase, err := "", error(nil)
			if !key {
				if phrase, err = s.secret("passphrase (not shown): "); err != nil {
					return err
				}
			}
			if err := a.Lock(ctx, phrase); err != nil {
				return err
			}
			if s.json {
				return lockValue.print(s, lock{!key})
			}
			fmt.Fprintln(s.out, "the credentials open with", map[bool]string{true: "a new key file", false: "the passphrase"}[key])
			return nil
		}),
	}
	lock.Flags().BoolVar(&key, "key", false, "make a new key file instead of a passphrase")
	cmd.AddCommand(lock, s.keyPair(), s.keepSecret())
	return cmd
}

// keepSecret keeps a secret of plans, so that it need not be in the environment.
func (s *shared) keepSecret() *cobra.Command {
	var file string
	var forget bool
	cmd := &cobra.Command{
		Use:   "secret NAME",
		Short: "Keep the value of a secret input for the runs of this workspace",
		Long: `Takes the value from the keyboard, from standard input, or from the file named, and keeps it encrypted with the other
credentials. Plans name their secrets; runs are given the value from the environment first, else the one that is kept.`,
		Args: exactly(1, "name the secret"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			value, err := "", error(nil)
			switch {
			case forget:
			case file != "":
				var data []byte
				data, err = os.ReadFile(file)
				value = strings.TrimSpace(string(data))
			default:
				value, err = s.secret(args[0] + " (not shown): ")
			}
			if err != nil {
				return err
			}
			if value == "" && !forget {
				return usageError{fmt.Errorf("nothing was given for %s; --forget takes away what is kept", args[0])}
			}
			if err := a.SetSecrets(ctx, map[string]string{args[0]: value}); err != nil {
				return err
			}
			if s.json {
				return secretValue.print(s, secretKept{args[0], !forget})
			}
			fmt.Fprintf(s.out, "%s is %s\n", printable.Clean(args[0]), map[bool]string{true: "forgotten", false: "kept"}[forget])
			return nil
		}),
	}
	cmd.Flags().StringVar(&file, "file", "", "file that holds the value")
	cmd.Flags().BoolVar(&forget, "forget", false, "keep it no more")
	return cmd
}

func (s *shared) keyPair() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "key [NAME]",
		Short: "Make a key pair or bring one, or list them",
		Long: `With a name, makes a key pair for shells: the private half is printed once, and only the public half is kept. With
--private a key pair is brought: its private half is kept encrypted and never printed. Without a name lists them.`,
		Args: atMostOne,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if len(args) == 0 {
				return s.listKeys(a)
			}
			if file != "" {
				data, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				public, err := a.BringKey(ctx, args[0], data)
				if err != nil {
					return err
				}
				return s.printKey(args[0], public, "")
			}
			public, private, err := a.MakeKey(ctx, args[0])
			if err != nil {
				return err
			}
			return s.printKey(args[0], public, private)
		}),
	}
	cmd.Flags().StringVar(&file, "private", "", "file that holds a private key to keep")
	return cmd
}

func (s *shared) printKey(name, public, private string) error {
	if s.json {
		return keyValue.print(s, keyMade{name, public, private})
	}
	fmt.Fprintln(s.out, public)
	if private != "" {
		fmt.Fprintln(s.err, "this is the private half; it is not kept, and is not shown again:")
		fmt.Fprint(s.out, private)
	}
	return nil
}

func (s *shared) listKeys(a *app.App) error {
	keys, err := a.Keys()
	if err != nil {
		return err
	}
	if s.json {
		return keysValue.print(s, keys)
	}
	for _, k := range keys {
		fmt.Fprintf(s.out, "%-16s %s\n", k.Name, k.Public)
	}
	return nil
}
