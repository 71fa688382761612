package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/dispatch"
	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/reply"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/service/templates"
)

// running are the options of commands that begin a run.
type running struct {
	detach  bool
	atOnce  int
	perSite int
	kinds   map[string]int
	confirm string
	out     string
	// propose keeps the plan for somebody to confirm, for so long.
	propose bool
	holds   time.Duration
}

func (o *running) flags(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&o.detach, "detach", false, "return at once with the run's number")
	cmd.Flags().IntVar(&o.atOnce, "at-once", 0, "how many steps may go on at once (default 64)")
	cmd.Flags().IntVar(&o.perSite, "at-once-per-site", 0, "how many of them at one site (default 24)")
	cmd.Flags().StringToIntVar(&o.kinds, "at-once-per-kind", nil, "how many of a kind of resource at one site, KIND=N, such as instance=4")
}

// changing adds the options of commands that change what stands.
func (o *running) changing(cmd *cobra.Command) {
	o.flags(cmd)
	cmd.Flags().StringVar(&o.confirm, "confirm", "", "name of the deployment, which says that the plan shown is to be run")
	cmd.Flags().StringVarP(&o.out, "output", "o", "", "write the plan to this file")
	cmd.Flags().BoolVar(&o.propose, "propose", false, "begin nothing: keep the plan for somebody to confirm")
	cmd.Flags().DurationVar(&o.holds, "holds", runs.ProposalHolds, "with --propose: for how long it can be confirmed")
}

func (o *running) limits() dispatch.Limits {
	l := dispatch.Limits{Steps: o.atOnce, PerSite: o.perSite}
	for k, n := range o.kinds {
		if l.Kinds == nil {
			l.Kinds = map[kinds.Kind]int{}
		}
		l.Kinds[kinds.Kind(k)] = n
	}
	return l
}

// begin runs an order, and follows it unless it is to go on by itself.
func (s *shared) begin(ctx context.Context, a *app.App, o running, order deployments.Order) error {
	order.Limits = o.limits()
	id, err := a.Begin(ctx, order)
	if err != nil {
		return err
	}
	return s.begun(ctx, a, o, id)
}

// begun follows a run that was begun, unless it is to go on by itself.
func (s *shared) begun(ctx context.Context, a *app.App, o running, id int64) error {
	if !o.detach {
		return s.follow(ctx, a, id, true)
	}
	if s.json {
		return begunValue.print(s, begun{Run: id})
	}
	fmt.Fprintf(s.out, "run %d goes on in the background; andamio watch %d shows it\n", id, id)
	return nil
}

// show prints what an order changes, and runs it once its deployment's name is confirmed. Without that nothing is done,
// and the answer is no.
func (s *shared) show(ctx context.Context, a *app.App, o running, order deployments.Order) error {
	d, err := a.Deployment(ctx, order.Deployment)
	if err != nil {
		return err
	}
	if o.out != "" {
		data, err := order.Plan.Write()
		if err != nil {
			return err
		}
		if err := os.WriteFile(o.out, data, 0o644); err != nil {
			return err
		}
	}
	if s.json && o.confirm == "" && !o.propose {
		return errors.Join(errNo, changeValue.print(s, reply.ChangeOf(order)))
	}
	if !s.json {
		s.printChange(ctx, a, d, order)
	}
	if o.propose {
		order.Limits = o.limits()
		return s.propose(ctx, a, order, o.holds)
	}
	if err := s.confirmed(d.Name, &o); err != nil {
		return err
	}
	return s.begin(ctx, a, o, order)
}

// asks reports that somebody is there to be asked.
func (s *shared) asks() bool {
	return isTerminal(s.in) && !s.json
}

func (s *shared) printChange(ctx context.Context, a *app.App, d *deployments.Deployment, o deployments.Order) {
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for _, c := range reply.ChangesOf(o.Plan) {
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", c.Change, c.Site, printable.Clean(c.Resource), printable.Clean(strings.Join(c.Reasons, "; ")))
	}
	w.Flush()
	p := o.Plan
	kept := 0
	for i := range p.Resources {
		if p.Resources[i].Change == plan.Keep {
			kept++
		}
	}
	answer, err := a.Rehearse(ctx, p, o.Limits)
	took := ""
	if err == nil {
		took = fmt.Sprintf(", about %s, nine in ten under %s", seconds(answer.P50.Seconds()), seconds(answer.P90.Seconds()))
	}
	fmt.Fprintf(s.out, "\n%s: %s, %s kept%s\n", printable.Clean(p.Purpose), printable.Count(len(p.Steps), "step"), printable.Count(kept, "resource"), took)
	for _, l := range p.Losses() {
		fmt.Fprintln(s.out, "data:", printable.Clean(l.String()))
	}
	for _, n := range slices.Concat(p.Notes, p.Promised.Lines(p.Currency)) {
		fmt.Fprintln(s.out, "note:", printable.Clean(n))
	}
	fmt.Fprintf(s.out, "costs %.3f %s/h now and %.3f %s/h then\n", d.CostPerHour(), p.Currency, p.CostPerHour, p.Currency)
}

// withDeployment opens the workspace and finds the deployment that the first argument names, by number or by name.
func (s *shared) withDeployment(act func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		a, err := s.open(cmd.Context())
		if err != nil {
			return err
		}
		defer a.Close()
		d, err := a.FindDeployment(cmd.Context(), args[0])
		if err != nil {
			return err
		}
		return act(cmd.Context(), a, d, args[1:])
	}
}

// ordering makes a command that compiles an order for a deployment, shows it and runs it.
func (s *shared) ordering(use, short, long string, args cobra.PositionalArgs,
	compile func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error)) *cobra.Command {
	var o running
	cmd := &cobra.Command{Use: use, Short: short, Long: long + `

What it changes is shown first; it is run when the deployment's name is typed, or given with --confirm.`, Args: args,
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) error {
			order, err := compile(ctx, a, d, rest)
			if err != nil {
				return err
			}
			if order.Plan.Nothing() {
				return s.nothingToDo(d)
			}
			return s.show(ctx, a, o, order)
		})}
	o.changing(cmd)
	return cmd
}

func (s *shared) nothingToDo(d *deployments.Deployment) error {
	if s.json {
		return changeValue.print(s, changing{Deployment: d.ID, Changes: []changed{}, Losses: []plan.Loss{}, Steps: []string{}, Currency: d.Stand.Plan.Currency, CostPerHour: d.CostPerHour()})
	}
	fmt.Fprintf(s.out, "%s stands as it is wanted: nothing is to be done\n", printable.Clean(d.Name))
	return nil
}

func (s *shared) retire() *cobra.Command {
	return s.ordering("retire DEPLOYMENT", "Take everything of a deployment away",
		`Compiles the inverse of what stands and runs it: software is stopped, what is at the sites is removed in the inverse of
the order in which it was built, and every site is looked through for what may be left.`, cobra.ExactArgs(1),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) (deployments.Order, error) {
			return a.Retiring(ctx, d.ID)
		})
}

func (s *shared) power(use string, on bool, short string) *cobra.Command {
	return s.ordering(use+" DEPLOYMENT [TIER]", short,
		`TIER is a service, a node of the template, or one instance; without it all are meant.`, cobra.RangeArgs(1, 2),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error) {
			return a.Powering(ctx, d.ID, strings.Join(rest, ""), on)
		})
}

func (s *shared) scale() *cobra.Command {
	return s.ordering("scale DEPLOYMENT TIER COUNT", "Give a tier of a deployment more or fewer instances",
		`TIER is a node of the template whose number of instances an input says. The template is read anew from where the
deployment's was opened.`, cobra.ExactArgs(3),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error) {
			n, err := strconv.Atoi(rest[1])
			if err != nil || n < 0 {
				return deployments.Order{}, usageError{fmt.Errorf("%q is no number of instances", rest[1])}
			}
			return a.Scaling(ctx, d.ID, rest[0], n)
		})
}

func (s *shared) diff() *cobra.Command {
	var o running
	var heed []string
	var w planOptions
	cmd := &cobra.Command{
		Use:   "diff DEPLOYMENT [TEMPLATE]",
		Short: "Show what leads from what stands to a template and inputs, and run it",
		Long: `Works the template out anew, the one that the deployment was made from if none is named, with its last inputs and those
given, and compares it with what stands: what is built, changed in place, rebuilt, retired or kept, and why, and whose data
goes. What stands stays where it is: a rule that it breaks is noted, and only what has no room there any more goes elsewhere. Exits with 0 if there is no difference, with 1 if there is one and it was not
run; it is run when the deployment's name is typed, or given with --confirm.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) error {
			inputs, diags, err := w.readInputs()
			if err != nil {
				return err
			}
			if t, err := a.TemplateOf(ctx, d, s.placeOf(rest)); err == nil {
				if err := noSecrets(t, w.set); err != nil {
					return err
				}
			}
			draft, order, err := a.Updating(ctx, d.ID, s.placeOf(rest), templates.DraftRequest{Preset: w.preset, Inputs: inputs, Heed: heed})
			if err != nil {
				return err
			}
			if all := append(draft.Diagnostics, diags...); all.Errors() > 0 {
				return s.mistakes(draft.Template, all)
			}
			if draft.Err != nil {
				return draft.Err
			}
			if order.Plan.Nothing() {
				return s.nothingToDo(d)
			}
			return s.show(ctx, a, o, order)
		}),
	}
	cmd.Flags().StringVar(&w.preset, "preset", "", "inputs of this preset of the template (default: those it was made with)")
	cmd.Flags().StringVar(&w.inputs, "inputs", "", "YAML file with inputs")
	cmd.Flags().StringArrayVar(&w.set, "input", nil, "one input, NAME=VALUE; may be repeated")
	cmd.Flags().StringSliceVar(&heed, "heed", nil, "rule that holds again where a move had lifted it; may be given again")
	o.changing(cmd)
	return cmd
}

// raising makes a command that raises another deployment after one: nothing of that is touched, so it is begun at once.
func (s *shared) raising(use, short, long string, args cobra.PositionalArgs,
	compile func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error)) *cobra.Command {
	var o running
	cmd := &cobra.Command{Use: use, Short: short, Long: long, Args: args,
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) error {
			order, err := compile(ctx, a, d, rest)
			if err != nil {
				return err
			}
			if o.out != "" {
				return s.writePlan(order.Plan, o.out)
			}
			return s.begin(ctx, a, o, order)
		}),
	}
	o.flags(cmd)
	cmd.Flags().StringVarP(&o.out, "output", "o", "", "write the plan to this file instead of running it")
	return cmd
}

func (s *shared) clone() *cobra.Command {
	return s.raising("clone DEPLOYMENT NAME", "Raise another deployment like one, with addresses of its own", "", cobra.ExactArgs(2),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error) {
			return a.Cloning(ctx, d.ID, rest[0])
		})
}

func (s *shared) capture() *cobra.Command {
	return &cobra.Command{
		Use: "capture DEPLOYMENT FOLDER", Short: "Make a template of what stands of a deployment", Args: cobra.ExactArgs(2),
		Long: `Writes a template with its scripts into a new folder: what raises the like of what stands, with the values it was given.
Secrets become inputs; wishes about the placement are not kept in what stands, and so not in the template.`,
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) error {
			files, err := a.Capture(ctx, d.ID, rest[0])
			if err != nil {
				return err
			}
			if s.json {
				return capturedValue.print(s, captured{rest[0], files})
			}
			fmt.Fprintf(s.out, "%s written to %s; andamio check %s checks the template\n", printable.Count(len(files), "file"), rest[0], rest[0])
			return nil
		}),
	}
}

func (s *shared) rollback() *cobra.Command {
	var o running
	cmd := &cobra.Command{
		Use:   "rollback [RUN]",
		Short: "Take back what a run did, by its inverse",
		Long: `Compiles the plan that leads back from what stands to what stood before the run, the last one of the workspace if none
is named. Only the last run of a deployment can be rolled back.

What it changes is shown first; it is run when the deployment's name is typed, or given with --confirm.`,
		Args: cobra.MaximumNArgs(1),
		RunE: s.withRun(func(ctx context.Context, a *app.App, id int64) error {
			order, err := a.RollingBack(ctx, id)
			if err != nil {
				return err
			}
			return s.show(ctx, a, o, order)
		}),
	}
	o.changing(cmd)
	return cmd
}

func (s *shared) resume() *cobra.Command {
	var detach bool
	var retry, skip []string
	cmd := &cobra.Command{
		Use:   "resume [RUN]",
		Short: "Go on with a run that broke off, was cancelled, or failed",
		Long: `Goes on where the run was left: what was begun and not finished is looked for at the sites before anything is asked for
again. Everything that failed is tried again, unless --retry or --skip say of which steps that is to be so.`,
		Args: cobra.MaximumNArgs(1),
		RunE: s.withRun(func(ctx context.Context, a *app.App, id int64) error {
			for verb, steps := range map[string][]string{run.Retry: retry, run.Skip: skip} {
				for _, step := range steps {
					if err := a.Decide(ctx, id, step, verb); err != nil {
						return err
					}
				}
			}
			if len(retry)+len(skip) == 0 {
				if err := a.Resume(ctx, id); err != nil {
					return err
				}
			}
			if detach {
				fmt.Fprintf(s.out, "run %d goes on in the background; andamio watch %d shows it\n", id, id)
				return nil
			}
			return s.follow(ctx, a, id, true)
		}),
	}
	cmd.Flags().BoolVar(&detach, "detach", false, "return at once")
	cmd.Flags().StringArrayVar(&retry, "retry", nil, "a failed step to try again, or one that waits until its site is asked again; may be repeated")
	cmd.Flags().StringArrayVar(&skip, "skip", nil, "a failed step to go on without; may be repeated")
	return cmd
}

func (s *shared) deployments() *cobra.Command {
	return &cobra.Command{
		Use: "deployments", Short: "List what runs left standing", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			a, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer a.Close()
			all, err := a.Deployments(cmd.Context())
			if err != nil {
				return err
			}
			lines := []standing{}
			for i := range all {
				d := &all[i]
				lines = append(lines, reply.StandingOf(d))
			}
			if s.json {
				return deploymentsValue.print(s, lines)
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			for _, l := range lines {
				fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%.3f %s/h\trun %d %s\n", l.ID, printable.Clean(l.Name), l.Word, printable.Count(l.Resources, "resource"), l.CostPerHour, l.Currency, l.LastRun, printable.Clean(l.Purpose))
			}
			return w.Flush()
		},
	}
}

func (s *shared) rehearse() *cobra.Command {
	var o running
	cmd := &cobra.Command{
		Use:   "rehearse PLAN",
		Short: "Imagine a run many times, and say how long it may take and what decides that",
		Args:  cobra.ExactArgs(1),
		RunE: s.withPlan(func(ctx context.Context, a *app.App, p *plan.Plan, _ string) error {
			r, err := a.Rehearse(ctx, p, o.limits())
			if err != nil {
				return err
			}
			if s.json {
				return rehearsalValue.print(s, rehearsal{r.Rounds, r.P50.Seconds(), r.P90.Seconds(), r.Unbounded.Seconds(), r.Decisive})
			}
			fmt.Fprintf(s.out, "%d imagined runs: half end within %s, nine in ten within %s\n", r.Rounds, seconds(r.P50.Seconds()), seconds(r.P90.Seconds()))
			fmt.Fprintf(s.out, "without limits on how much goes on at once half would end within %s\n", seconds(r.Unbounded.Seconds()))
			fmt.Fprintln(s.out, "what decides it most often:")
			for _, d := range r.Decisive {
				fmt.Fprintf(s.out, "  %3.0f %%  %s\n", d.Share*100, printable.Clean(d.Step))
			}
			return nil
		}),
	}
	o.flags(cmd)
	return cmd
}
