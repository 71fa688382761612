// Package cli is the command line: the same services as the screens, for scripts and pipes.
//
// Every command exits with 0 when done, 1 when the answer is no, and from 2 on by the class of what went wrong (see
// statuses); with --json it prints one JSON value and nothing else.
package cli

import (
	"context"
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
	"andamio/internal/core/rules"
	"andamio/internal/session"
)

// Exit statuses.
const (
	exitDone = 0
	exitNo   = 1
)

// statuses are those of errors, by their class.
var statuses = map[fault.Code]int{answeredNo: exitNo, fault.Invalid: 2, fault.NotFound: 3, fault.Conflict: 4, fault.Refused: 5,
	fault.NotAllowed: 6, fault.Unavailable: 7, fault.Unexpected: 8}

// answeredNo is the class of what is an answer rather than a failure.
const answeredNo fault.Code = "no"

// errNo is an answer of which everything has been said.
var errNo = fault.As(answeredNo, errors.New("the answer is no"))

// unconfirmed says what was not done, and how it is.
func unconfirmed(format string, args ...any) error {
	return fault.As(answeredNo, fmt.Errorf(format, args...))
}

// shared are the options that every command has.
type shared struct {
	workspace string
	json      bool
	in        io.Reader
	// words are those that follow the program's name, and far the server where the workspace is, if it is elsewhere.
	words []string
	far   far
	// visit is whoever has the command run from elsewhere, and lent the workspace as they may use it.
	visit    *session.Visit
	lent     *app.App
	out, err io.Writer
	// notes are what programs are still to be told.
	notes []string
}

// Main runs the command line and returns the exit status.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	s := &shared{words: args, in: in, out: out, err: errOut}
	return s.execute(ctx, newRoot(s), args)
}

// execute runs a command, and returns with which status it ended.
func (s *shared) execute(ctx context.Context, root *cobra.Command, args []string) int {
	root.SetArgs(append([]string{}, args...)) // of none the library would take those of the process
	root.SetIn(s.in)
	root.SetOut(s.out)
	root.SetErr(s.err)
	cmd, err := root.ExecuteContextC(ctx)
	if errors.As(err, new(usageError)) { // what follows an option that is wrong has not been read
		s.json = s.json || asksForJSON(args)
	}
	return s.status(err, cmd.CommandPath())
}

// asksForJSON reports whether --json is among the words of a command, rather than among those that it passes on.
func asksForJSON(args []string) bool {
	own, _, _ := strings.Cut("\x00"+strings.Join(args, "\x00")+"\x00", "\x00--\x00")
	return strings.Contains(own+"\x00", "\x00--json\x00")
}

// status prints an error and turns it into the exit status.
func (s *shared) status(err error, command string) int {
	switch {
	case err == nil:
		s.reportNotes()
		return exitDone
	case errors.Is(err, errNo):
		s.reportNotes()
		return exitNo
	}
	if e := exited(0); errors.As(err, &e) {
		return int(e)
	}
	err = spoken(err)
	s.report(err, command)
	return statuses[classOf(err)]
}

func newRoot(s *shared) *cobra.Command {
	root := &cobra.Command{
		Use:   "andamio",
		Short: "Compile service templates into plans, run them, watch them rise",
		Long: `Andamio reads a service template, works out where each part should run, compiles a plan in the order of its
dependencies, runs it and shows it rise. Without a command it opens the screens.

Exit status: 0 done, 1 the answer is no, 2 invalid, 3 not found, 4 conflict, 5 refused, 6 not allowed, 7 unavailable,
8 what should not happen.`,
		Version:       version(),
		SilenceErrors: true, SilenceUsage: true,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return s.screens(cmd.Context(), screenOptions(cmd)) },
	}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.PersistentFlags().StringVar(&s.workspace, "workspace", "", "folder of the workspace (default: under $XDG_DATA_HOME)")
	root.PersistentFlags().BoolVar(&s.json, "json", false, "print one JSON value")
	s.far.flags(root)
	addScreenFlags(root)
	root.AddCommand(s.demo(), s.sandbox(), s.check(), s.explain(), s.types(), s.pack(), s.unpack(), s.editor(), s.plan(), s.place(), s.estate(), s.run(), s.watch(), s.resume(), s.rollback(), s.deployments(), s.diff(),
		s.scale(), s.power("stop", false, "Switch the instances of a deployment off"), s.power("start", true, "Switch the instances of a deployment on again"),
		s.clone(), s.capture(), s.snapshot(), s.replica(), s.promises(), s.calendar(), s.level(), s.hours(), s.recovery(), s.lease(), s.retire(), s.rehearse(), s.shell(), s.console(), s.copy(), s.export(), s.work(),
		s.site(), s.credentials(), s.survey(), s.reconcile(), s.manage(), s.unmanage(), s.records(), s.mapping(), s.serve(), s.clock(), s.notices(), s.bus(), s.pair(), s.move(), s.names(), s.packages(), s.find(), s.proposals(), s.confirm(), s.withdraw(), s.team(), s.offer(), s.quota(), s.account(), s.hook(), s.request(), s.decide(), s.log(), s.backup(), s.restore(), s.measure(), s.alert(), s.threshold(), s.reaction(), s.front(), s.token(), s.workspaces(), s.workers())
	demand(root)
	s.whereTheWorkspaceIs(root)
	return root
}

// version is what the build knows of itself.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok || info.Main.Version == "" || info.Main.Version == "(devel)" {
		return "development"
	}
	return info.Main.Version
}

// open opens the workspace.
func (s *shared) open(ctx context.Context, options ...app.Option) (*app.App, error) {
	if s.lent != nil {
		return s.lent, nil
	}
	a, err := app.Open(ctx, s.workspace, options...)
	if err != nil {
		return nil, err
	}
	if n := len(a.Opened().Loose); n > 0 {
		s.note("others could use %s of the workspace, %s first; now its owner alone can", printable.Count(n, "thing"), a.Opened().Loose[0])
	}
	if a.Opened().Copied != "" {
		s.note("the workspace was brought up to date; as it was before it is in %s", a.Opened().Copied)
	}
	return a, nil
}

// rules are the administrator's of the workspace; nil where there are none.
func (s *shared) rules(ctx context.Context) (*rules.File, error) {
	if s.lent != nil {
		return s.lent.Rules()
	}
	return app.RulesIn(ctx, s.workspace)
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
