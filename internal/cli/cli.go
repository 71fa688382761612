// Package cli is the command line: the same services as the screens, for scripts and pipes.
//
// Every command exits with 0 when done, 1 when the answer is no, and from 2 on by the class of what went wrong (see
// statuses); with --json it prints one JSON value and nothing else.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
)

// Exit statuses.
const (
	exitDone = 0
	exitNo   = 1
)

// statuses are those of errors, by their class.
var statuses = map[fault.Code]int{answeredNo: exitNo, fault.Unexpected: exitNo, fault.Invalid: 2, fault.NotFound: 3, fault.Conflict: 4, fault.Refused: 5,
	fault.NotAllowed: 6, fault.Unavailable: 7}

// answeredNo is the class of what is an answer rather than a failure.
const answeredNo fault.Code = "no"

// errNo is an answer of which everything has been said.
var errNo = fault.As(answeredNo, errors.New("the answer is no"))

// unconfirmed says what was not done, and how it is.
func unconfirmed(format string, args ...any) error {
	return fault.As(answeredNo, fmt.Errorf(format, args...))
}

// usageError is a wrong use of a command.
type usageError struct{ err error }

func (u usageError) Error() string    { return u.err.Error() }
func (u usageError) Code() fault.Code { return fault.Invalid }

// shared are the options that every command has.
type shared struct {
	workspace string
	json      bool
	in        io.Reader
	out, err  io.Writer
}

// Main runs the command line and returns the exit status.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	s := &shared{in: in, out: out, err: errOut}
	root := newRoot(s)
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	return s.status(err)
}

// status prints an error and turns it into the exit status.
func (s *shared) status(err error) int {
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errNo):
		return exitNo
	}
	if e := exited(0); errors.As(err, &e) {
		return int(e)
	}
	s.complain(err)
	if u := (usageError{}); errors.As(err, &u) && !s.json {
		fmt.Fprintln(s.err, "andamio --help lists the commands")
	}
	return statuses[fault.CodeOf(err)]
}

// complain prints an error, line by line without control sequences: parts of it may come from outside.
func (s *shared) complain(err error) {
	if s.json {
		text, _ := json.Marshal(map[string]any{"code": fault.CodeOf(err), "detail": err.Error()})
		fmt.Fprintln(s.err, string(printable.JSON(text)))
		return
	}
	for i, line := range strings.Split(err.Error(), "\n") {
		if i == 0 {
			line = "andamio: " + line
		}
		fmt.Fprintln(s.err, printable.Clean(line))
	}
}

func newRoot(s *shared) *cobra.Command {
	root := &cobra.Command{
		Use:   "andamio",
		Short: "Compile service templates into plans, run them, watch them rise",
		Long: `Andamio reads a service template, works out where each part should run, compiles a plan in the order of its
dependencies, runs it and shows it rise. Without a command it opens the screens.

Exit status: 0 done, 1 the answer is no, 2 invalid, 3 not found, 4 conflict, 5 refused, 6 not allowed, 7 unavailable.`,
		Version:       version(),
		SilenceErrors: true, SilenceUsage: true,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return s.screens(cmd.Context(), screenOptions(cmd)) },
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.PersistentFlags().StringVar(&s.workspace, "workspace", "", "folder of the workspace (default: under $XDG_DATA_HOME)")
	root.PersistentFlags().BoolVar(&s.json, "json", false, "print one JSON value")
	addScreenFlags(root)
	root.AddCommand(s.demo(), s.sandbox(), s.check(), s.explain(), s.types(), s.pack(), s.unpack(), s.editor(), s.plan(), s.place(), s.estate(), s.run(), s.watch(), s.resume(), s.rollback(), s.deployments(), s.diff(),
		s.scale(), s.power("stop", false, "Switch the instances of a deployment off"), s.power("start", true, "Switch the instances of a deployment on again"),
		s.clone(), s.capture(), s.snapshot(), s.replica(), s.promises(), s.calendar(), s.level(), s.hours(), s.recovery(), s.lease(), s.retire(), s.rehearse(), s.shell(), s.console(), s.copy(), s.export(), s.work(),
		s.site(), s.credentials(), s.survey(), s.reconcile(), s.manage(), s.unmanage(), s.records(), s.mapping(), s.serve(), s.clock(), s.notices(), s.pair(), s.move(), s.names(), s.packages(), s.find(), s.proposals(), s.confirm(), s.withdraw(), s.team(), s.offer(), s.quota(), s.account(), s.hook(), s.request(), s.decide(), s.log(), s.backup(), s.restore())
	for _, c := range root.Commands() {
		args := c.Args
		if args != nil {
			c.Args = func(cmd *cobra.Command, a []string) error { return wrong(args(cmd, a)) }
		}
	}
	args := root.Args
	root.Args = func(cmd *cobra.Command, a []string) error { return wrong(args(cmd, a)) }
	return root
}

func wrong(err error) error {
	if err == nil {
		return nil
	}
	return usageError{err}
}

// version is what the build knows of itself.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok || info.Main.Version == "" || info.Main.Version == "(devel)" {
		return "development"
	}
	return info.Main.Version
}

// printJSON prints one value.
func (s *shared) printJSON(v any) error {
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(v); err != nil {
		return err
	}
	_, err := s.out.Write(printable.JSON(text.Bytes()))
	return err
}

// open opens the workspace.
func (s *shared) open(ctx context.Context, options ...app.Option) (*app.App, error) {
	a, err := app.Open(ctx, s.workspace, options...)
	if err != nil {
		return nil, err
	}
	if n := len(a.Opened().Loose); n > 0 {
		fmt.Fprintf(s.err, "note: others could use %s of the workspace, %s first; now its owner alone can\n", printable.Count(n, "thing"), printable.Clean(a.Opened().Loose[0]))
	}
	if a.Opened().Copied != "" {
		fmt.Fprintf(s.err, "note: the workspace was brought up to date; as it was before it is in %s\n", printable.Clean(a.Opened().Copied))
	}
	return a, nil
}

// with opens the workspace for a command, and closes it after.
func (s *shared) with(do func(ctx context.Context, a *app.App, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		a, err := s.open(cmd.Context())
		if err != nil {
			return err
		}
		defer a.Close()
		return do(cmd.Context(), a, args)
	}
}
