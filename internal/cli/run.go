package cli

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
)

func (s *shared) run() *cobra.Command {
	var o running
	var deployment, template string
	cmd := &cobra.Command{
		Use:   "run PLAN",
		Short: "Run a plan to its end",
		Long: `Runs a plan file (from andamio plan -o) at the connected sites. The run goes on in a process of its own: with
--detach the command returns its number at once, otherwise it watches. Where a deployment of the plan's name stands, or
with --deployment, the difference between what stands and the plan is shown and run; another one is raised by a plan of
another name (andamio plan --name). An interrupt asks the run to stop, which leaves
what stands as it is. Secrets come from the environment, see the message when one is missing.`,
		Args: cobra.ExactArgs(1),
		RunE: s.withPlan(func(ctx context.Context, a *app.App, p *plan.Plan, file string) error {
			if err := deployments.CheckFresh(p); err != nil {
				return fault.Default(fault.Invalid, fmt.Errorf("%s: %w", file, err))
			}
			d, err := a.Taken(ctx, p.Name)
			if deployment != "" {
				d, err = a.FindDeployment(ctx, deployment)
			}
			if err != nil {
				return err
			}
			if d == nil && o.propose {
				return s.propose(ctx, a, deployments.Order{Plan: p, Template: template, Limits: o.limits()}, o.holds)
			}
			if d == nil {
				return s.begin(ctx, a, o, deployments.Order{Plan: p, Template: template})
			}
			order, err := a.Changed(ctx, d.ID, p, "make "+d.Name+" what "+file+" says")
			if err != nil {
				return err
			}
			if len(order.Plan.Steps) == 0 {
				return s.nothingToDo(d)
			}
			return s.show(ctx, a, o, order)
		}),
	}
	o.changing(cmd)
	cmd.Flags().StringVar(&deployment, "deployment", "", "deployment that is to become what the plan says (default: the one of the plan's name, if it stands)")
	cmd.Flags().StringVar(&template, "template", "", "where the plan's template is, for changing the deployment later (default: where it was when the plan was made)")
	return cmd
}

// withPlan reads the plan file that a command names, and opens the workspace, for the act.
func (s *shared) withPlan(act func(ctx context.Context, a *app.App, p *plan.Plan, file string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		data, err := os.ReadFile(args[0])
		if err != nil {
			return err
		}
		p, err := plan.Read(data)
		if err != nil {
			return fault.Default(fault.Invalid, fmt.Errorf("%s: %w", args[0], err))
		}
		a, err := s.open(cmd.Context())
		if err != nil {
			return err
		}
		defer a.Close()
		return act(cmd.Context(), a, p, args[0])
	}
}

func (s *shared) watch() *cobra.Command {
	return &cobra.Command{
		Use:   "watch [RUN]",
		Short: "Watch a run, in this workspace the last one if none is named",
		Long: `Prints what has happened in a run and follows it to its end. Exits with 0 if everything stands, 1 if not. An
interrupt ends the watching, not the run.`,
		Args: cobra.MaximumNArgs(1),
		RunE: s.withRun(func(ctx context.Context, a *app.App, id int64) error { return s.follow(ctx, a, id, false) }),
	}
}

// withRun opens the workspace and finds the run that a command names, for the act.
func (s *shared) withRun(act func(ctx context.Context, a *app.App, id int64) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		a, err := s.open(cmd.Context())
		if err != nil {
			return err
		}
		defer a.Close()
		id, err := findRun(cmd.Context(), a, args)
		if err != nil {
			return err
		}
		return act(cmd.Context(), a, id)
	}
}

// findRun is the run named, or the newest.
func findRun(ctx context.Context, a *app.App, args []string) (int64, error) {
	if len(args) == 1 {
		id, err := strconv.ParseInt(args[0], 10, 64)
		if err != nil {
			return 0, usageError{fmt.Errorf("%q is no number of a run", args[0])}
		}
		return id, nil
	}
	runs, err := a.Runs(ctx)
	if err != nil {
		return 0, err
	}
	if len(runs) == 0 {
		return 0, fault.NotFoundf("there are no runs in this workspace yet; andamio run PLAN begins one")
	}
	return runs[0].ID, nil
}

// follow prints a run's progress until it is over. With cancel, the end of ctx asks the run to stop and waits for it.
func (s *shared) follow(ctx context.Context, a *app.App, id int64, cancel bool) error {
	r, err := a.Run(ctx, id)
	if err != nil {
		return err
	}
	p, err := a.PlanOf(ctx, r)
	if err != nil {
		return err
	}
	watching := ctx
	if cancel {
		watching = context.WithoutCancel(ctx)
		stop := context.AfterFunc(ctx, func() { _ = a.Cancel(watching, id) })
		defer stop()
	}
	watching, enough := context.WithCancel(watching)
	defer enough()
	state := run.New(p)
	show := s.progress(id, state)
	for b := range a.Watch(watching, id, 0) {
		if b.Err != nil {
			return b.Err
		}
		for _, e := range b.Events {
			state.Apply(e)
			show.event(e)
		}
		show.line()
		if b.Silent {
			break // whoever waits for it is told
		}
	}
	show.end()
	return s.verdict(watching, a, id, state)
}

// verdict prints how a run ended and turns it into the exit status.
func (s *shared) verdict(ctx context.Context, a *app.App, id int64, state *run.State) error {
	ctx = a.Reaching(ctx) // endpoints are asked
	if s.json {
		if err := reportValue.print(s, report(ctx, id, state)); err != nil {
			return err
		}
	} else if state.Over() {
		s.printReport(ctx, id, state)
	} else if r, err := a.Run(ctx, id); err == nil && runs.Abandoned(r, time.Now()) {
		return fault.Unavailablef("the worker of run %d has been silent since %s: how far it got is in the journal, what the sites hold is not known", id, r.Beat.Local().Format(time.TimeOnly))
	}
	if state.Status != run.Standing {
		return errNo
	}
	return nil
}

// progress prints a run as it goes: a line for each step in a pipe, one line that changes on a terminal.
type progress struct {
	s     *shared
	id    int64
	state *run.State
	tty   bool
}

func (s *shared) progress(id int64, state *run.State) *progress {
	return &progress{s, id, state, isTerminal(s.out)}
}

func (p *progress) event(e run.Event) {
	if p.s.json {
		return
	}
	word := map[run.EventKind]run.Status{run.StepStarted: run.UnderWay, run.StepDone: run.Standing, run.StepFailed: run.Failed, run.StepStopped: run.Stopped, run.StepPassed: run.Passed}[e.Kind]
	if st := p.state.Step(e.Step); st != nil && st.Op.Takes() && word == run.Standing {
		word = "done" // nothing stands of it
	}
	switch {
	case word == "":
		return
	case p.tty && e.Kind != run.StepFailed:
		return
	}
	if p.tty {
		fmt.Fprint(p.s.out, "\r\x1b[K")
	}
	text := ""
	if e.Text != "" {
		text = ": " + printable.Clean(e.Text)
	}
	fmt.Fprintf(p.s.out, "%7s  %-9s  %s%s\n", since(p.state, e.At), word, e.Step, text)
}

func since(s *run.State, at time.Time) string {
	return fmt.Sprintf("%.1fs", at.Sub(s.Started).Seconds())
}

// barWidth is the width of the terminal's progress bar in cells.
const barWidth = 30

func (p *progress) line() {
	if !p.tty || p.s.json {
		return
	}
	all := len(p.state.Steps)
	full := barWidth * p.state.Done / max(all, 1)
	_, end := p.state.Forecast(time.Now())
	gone := time.Since(p.state.Started)
	fmt.Fprintf(p.s.out, "\r\x1b[Krun %d  %s%s  %d of %d standing, about %s to go", p.id, strings.Repeat("█", full),
		strings.Repeat("░", barWidth-full), p.state.Done, all, seconds(max(end-gone, 0).Seconds()))
}

func (p *progress) end() {
	if p.tty && !p.s.json {
		fmt.Fprint(p.s.out, "\r\x1b[K")
	}
}

// work is what a run's worker process is started as.
