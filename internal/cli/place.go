package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/core/cost"
	"andamio/internal/core/fault"
	"andamio/internal/core/placement"
	"andamio/internal/core/printable"
	"andamio/internal/core/problem"
)

// placing are the options of place.
type placing struct {
	file, lp, currency, by string
	seed                   uint64
	time                   time.Duration
}

func (s *shared) place() *cobra.Command {
	var o placing
	cmd := &cobra.Command{
		Use:   "place --problem FILE",
		Short: "Find the best site, zone, host and size for every workload, and say why not elsewhere",
		Long: `Reads a placement problem (YAML or JSON, schemas/problem.schema.json) and prints where every workload goes, what that
costs, and how far it can be from the best there is. With --json the answer has a verdict on every workload at every
site. Without --time the search takes a fixed effort, and equal problems and seeds give equal answers; with it, it goes
on until the time is over or the best is proven. With --lp the exact model is written instead, as LP text that solvers
of mixed integer programs read. Exits with 1 if there is no placement, and says what forbids it.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if o.file == "" {
				return usageError{errors.New("place needs --problem FILE")}
			}
			if o.time < 0 {
				return usageError{fmt.Errorf("--time takes a time above 0, not %s", o.time)}
			}
			return s.placeFile(cmd.Context(), o)
		},
	}
	cmd.Flags().StringVar(&o.file, "problem", "", "file with the placement problem")
	cmd.Flags().StringVar(&o.lp, "lp", "", "write the exact model to this file, and do not solve it")
	cmd.Flags().StringVar(&o.currency, "currency", "", "print costs in this currency (default: the estate's unit)")
	cmd.Flags().StringVar(&o.by, "by", "", "also print what it costs by workload, node, tier, site or tag:NAME")
	cmd.Flags().Uint64Var(&o.seed, "seed", 0, "begin of the search's chance: equal seeds give equal answers")
	cmd.Flags().DurationVar(&o.time, "time", 0, "search until this time is over, such as 10s, instead of a fixed effort")
	return cmd
}

// readProblem reads a problem and what it names beside it.
func readProblem(file string) (*problem.File, *placement.Problem, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, nil, err
	}
	f, p, err := problem.Read(data, func(name string) ([]byte, error) {
		if !filepath.IsLocal(name) {
			return nil, fault.Invalidf("%q leads out of the problem's folder; give a file in it", name)
		}
		return os.ReadFile(filepath.Join(filepath.Dir(file), name))
	})
	if err != nil {
		return nil, nil, fault.Default(fault.Invalid, fmt.Errorf("%s: %w", file, err))
	}
	return f, p, nil
}

func (s *shared) placeFile(ctx context.Context, o placing) error {
	f, p, err := readProblem(o.file)
	if err != nil {
		return err
	}
	if _, _, err := cost.In(p.Estate, 0, o.currency); err != nil {
		return usageError{err}
	}
	if !cost.By(o.by).Known() {
		return usageError{fmt.Errorf("--by takes workload, node, tier, site or tag:NAME, not %q", o.by)}
	}
	if o.lp != "" {
		return s.writeLP(o.lp, *p)
	}
	options := placement.Options{Seed: o.seed, Stop: func() bool { return ctx.Err() != nil }}
	begun := time.Now()
	if o.time > 0 {
		options.Effort = max(100*o.time.Seconds(), 1)
		options.Stop = func() bool { return ctx.Err() != nil || time.Since(begun) > o.time }
	}
	clear := s.searching(&options, p.Estate.Currency)
	got, err := placement.Solve(*p, options)
	clear()
	if err != nil {
		return err
	}
	if s.json {
		return placementValue.print(s, problem.Answered(f.Name, p, got))
	}
	if err := s.printPlacement(p, got, o.currency, time.Since(begun)); err != nil || o.by == "" {
		return err
	}
	return s.printSums(p, got, o)
}

// printSums prints what a placement costs, added up.
func (s *shared) printSums(p *placement.Problem, got *placement.Placement, o placing) error {
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintf(w, "\n%s\tan hour\ta month\tinstances\tvolumes\taddresses\ttraffic\tworkloads\t\n", o.by)
	for _, l := range cost.Sums(p, got, cost.By(o.by)) {
		rate, _, err := cost.In(p.Estate, 1, o.currency)
		if err != nil {
			return err
		}
		fmt.Fprintf(w, "%s\t%.3f\t%.0f\t%.3f\t%.3f\t%.3f\t%.3f\t%d\t\n", printable.Clean(l.Of), rate*l.PerHour, rate*l.PerHour*cost.Month, rate*l.Parts.Compute,
			rate*l.Parts.Storage, rate*l.Parts.Address, rate*l.Parts.Egress, l.Workloads)
	}
	return w.Flush()
}

func (s *shared) writeLP(file string, p placement.Problem) error {
	out, err := os.Create(file)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(out)
	err = errors.Join(placement.WriteLP(w, p), w.Flush(), out.Close())
	if err != nil {
		return errors.Join(err, os.Remove(file))
	}
	if s.json {
		return writtenValue.print(s, written{file})
	}
	fmt.Fprintln(s.out, "written:", file)
	return nil
}

// searching shows how far a search is, on a terminal; the function returned clears the line.
func (s *shared) searching(o *placement.Options, currency string) func() {
	if s.json || !isTerminal(s.err) {
		return func() {}
	}
	var last time.Time
	o.Progress = func(p placement.Progress) {
		if time.Since(last) < 100*time.Millisecond {
			return
		}
		last = time.Now()
		fmt.Fprintf(s.err, "\r%-12s best %.3f, bound %.3f %s/h ", p.Phase, p.Objective, p.Bound, currency)
	}
	return func() {
		if !last.IsZero() {
			fmt.Fprintf(s.err, "\r%s\r", strings.Repeat(" ", 70))
		}
	}
}

// printPlacement prints a placement for people.
func (s *shared) printPlacement(p *placement.Problem, got *placement.Placement, currency string, took time.Duration) error {
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "workload\tsite\tzone\thost\tsize\tcost an hour\twhy")
	for _, c := range got.Choices {
		each, unit, err := cost.In(p.Estate, c.CostPerHour, currency)
		if err != nil {
			return err
		}
		why := ""
		if len(c.Reasons) > 1 {
			why = c.Reasons[len(c.Reasons)-2]
		}
		size := c.Size
		if size == "" {
			size = "its own"
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%.4f %s\t%s\n", printable.Clean(c.Workload), printable.Clean(c.Site), printable.Clean(c.Zone),
			printable.Clean(c.Host), printable.Clean(size), each, unit, printable.Clean(why))
	}
	w.Flush()
	total, unit, _ := cost.In(p.Estate, got.CostPerHour, currency)
	fmt.Fprintf(s.out, "\n%.3f %s/h · %.0f a month · %.0f a year · %.0f in three years\n", total, unit, total*cost.Month, total*cost.Year, total*cost.ThreeYears)
	for _, pay := range cost.Payments(p, got)[1:] {
		if each, _, _ := cost.In(p.Estate, pay.PerHour, currency); pay.Offered > 0 {
			fmt.Fprintf(s.out, "%.3f %s/h if %s (%d of %d offered so)\n", each, unit, pay.Payment, pay.Offered, len(got.Choices))
		}
	}
	for _, b := range got.Broken {
		fmt.Fprintf(s.out, "not met: %s by %s (%s)\n", printable.Clean(b.Rule), printable.Clean(strings.Join(b.Workloads, ", ")), printable.Clean(b.Because))
	}
	fmt.Fprintf(s.out, "%s, found in %s\n", proven(got), took.Round(time.Millisecond))
	return nil
}

// proven says how good a placement is known to be.
func proven(got *placement.Placement) string {
	if got.Proven {
		return "the best there is, proven"
	}
	return fmt.Sprintf("at most %.2f %% from the best there is", 100*got.Gap())
}
