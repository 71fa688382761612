package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/service/shells"
)

func (s *shared) shell() *cobra.Command {
	return &cobra.Command{
		Use:   "shell [DEPLOYMENT/]INSTANCE [-- COMMAND...]",
		Short: "Open a shell on an instance, or run one command there",
		Long: `Opens a shell on an instance that stands, with the key and address that its run left; the host's key is checked against
the one that the site told. With a command, runs it and exits with its status.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			a, err := s.open(ctx)
			if err != nil {
				return err
			}
			defer a.Close()
			h, err := a.FindHost(ctx, args[0])
			if err != nil {
				return err
			}
			if len(args) > 1 {
				return s.command(ctx, a, h, strings.Join(args[1:], " "))
			}
			return s.interact(ctx, a, h)
		},
	}
}

// away is the key that leaves a serial console (ctrl+]): what is typed there goes on for ever otherwise.
const away = 0x1d

func (s *shared) console() *cobra.Command {
	return &cobra.Command{
		Use:   "console [DEPLOYMENT/]INSTANCE",
		Short: "Open the serial console of an instance",
		Long: `Opens the serial console of an instance that stands: the way in where its network is broken, or its system does not start.
Sites that have none refuse. ctrl+] leaves it.`,
		Args: cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			h, err := a.FindHost(ctx, args[0])
			if err != nil {
				return err
			}
			sh, err := a.OpenConsole(ctx, h)
			if err != nil {
				return err
			}
			return s.join(ctx, sh)
		}),
	}
}

// leaving ends what is typed at the key that leaves.
type leaving struct{ from io.Reader }

func (l leaving) Read(into []byte) (int, error) {
	n, err := l.from.Read(into)
	if at := bytes.IndexByte(into[:n], away); at >= 0 {
		return at, io.EOF
	}
	return n, err
}

// command runs one command on an instance. What it prints goes out as it is: it may be a file.
func (s *shared) command(ctx context.Context, a *app.App, h shells.Host, command string) error {
	in := s.in
	if isTerminal(s.in) {
		in = nil // nobody waits for the end of what is typed
	}
	code, err := a.Command(ctx, h, command, in, s.out, s.err)
	if err != nil {
		return err
	}
	if code != 0 {
		return exited(code)
	}
	return nil
}

// exited is the status of a command that was run elsewhere, which this one exits with too: it has said itself what was wrong.
type exited int

func (e exited) Error() string { return fmt.Sprintf("the command exited with %d", int(e)) }

// interact joins the terminal to a shell.
func (s *shared) interact(ctx context.Context, a *app.App, h shells.Host) error {
	cols, rows := s.size()
	sh, err := a.OpenShell(ctx, h, s.env("TERM"), cols, rows) // which an interrupt ends: the keyboard is still as it was
	if err != nil {
		return err
	}
	return s.join(ctx, sh)
}

// join joins the terminal to a shell or console that was opened.
func (s *shared) join(ctx context.Context, sh *shells.Shell) error {
	defer sh.Close()
	if isTerminal(s.in) {
		restore, err := s.raw()
		if err != nil {
			return err
		}
		defer restore()
		defer s.resized(func(cols, rows int) { _ = sh.Resize(cols, rows) })()
	}
	stop := context.AfterFunc(ctx, func() { sh.Close() })
	defer stop()
	from := s.in
	if sh.Serial() {
		from = leaving{s.in}
	}
	go func() { _, _ = io.Copy(sh.In, from); sh.In.Close() }()
	_, _ = io.Copy(s.out, sh.Out)
	return sh.Wait()
}

func (s *shared) copy() *cobra.Command {
	return &cobra.Command{
		Use:   "copy FROM TO",
		Short: "Copy files to or from an instance",
		Long: `One of FROM and TO is INSTANCE:PATH, the other a path here; folders are copied whole, by SFTP, with modes, times and links. Files that are
there already, of the same size and time, are left as they are, and a copy that broke off goes on where it was when it is asked for again. What comes
from an instance is written below TO alone, whatever links there are.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer a.Close()
			tty := isTerminal(s.out) && !s.json
			bytes := int64(0)
			n, err := a.Copy(cmd.Context(), args[0], args[1], func(c shells.Copied) {
				if tty {
					fmt.Fprintf(s.out, "\r\x1b[K%s  %d of %d bytes", printable.Clean(c.File), c.Done, c.Whole)
				}
				if c.Done == c.Whole {
					bytes += c.Done
				}
			})
			if tty {
				fmt.Fprint(s.out, "\r\x1b[K")
			}
			if err != nil {
				return err
			}
			if s.json {
				return copiedValue.print(s, copied{n, bytes})
			}
			fmt.Fprintf(s.out, "%s, %d bytes copied\n", printable.Count(n, "file"), bytes)
			return nil
		},
	}
}
