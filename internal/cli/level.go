package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/level"
	"andamio/internal/core/printable"
	"andamio/internal/reply"
	"andamio/internal/service/deployments"
)

// level lists the service levels, and gives and takes them.
func (s *shared) level() *cobra.Command {
	cmd := &cobra.Command{
		Use: "level", Short: "List the service levels, and who has which; give a deployment one", Args: cobra.NoArgs,
		Long: `Service levels are promises under a name: how often what the disks hold is kept, for how long, and how often it is tried whether it can be
restored (docs/promises.md). They are listed from the one that promises least, with the deployments that have them, and those that have
to have another by a rule.`,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error { return s.listLevels(ctx, a) }),
	}
	cmd.AddCommand(s.levelGive(), s.levelDrop(), s.levelSettle(), s.levelCheck(), s.levelSet())
	return cmd
}

func (s *shared) listLevels(ctx context.Context, a *app.App) error {
	now := time.Now()
	all, err := a.Levels(ctx, now)
	if err != nil {
		return err
	}
	states, err := a.LevelStates(ctx, now)
	if err != nil {
		return err
	}
	if s.json {
		return levelsValue.print(s, levelsOf{all, states})
	}
	if len(all) == 0 {
		fmt.Fprintln(s.out, "there are no service levels; docs/promises.md says how they are written, and andamio level set FILE keeps them")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "LEVEL\tPROMISES\tHAVE IT\t")
	for i := range all {
		l := &all[i]
		fmt.Fprintf(w, "%s\t%s\t%s\t\n", l.Name, printable.Clean(strings.Join(l.Words, "; ")), orDash(printable.Clean(strings.Join(l.Deployments, ", "))))
	}
	if err := w.Flush(); err != nil {
		return err
	}
	for i := range all {
		for _, why := range all[i].Lacking {
			fmt.Fprintln(s.out, "not everywhere:", printable.Clean(why))
		}
	}
	for _, d := range states {
		switch {
		case d.Below:
			fmt.Fprintf(s.out, "%s has to have %s or better: %s\n", printable.Clean(d.Name), d.Required, printable.Clean(d.Say))
		case d.Outdated:
			fmt.Fprintf(s.out, "%s has %s as it was before it was changed: andamio level give %s %s gives it as it is now\n", printable.Clean(d.Name), d.Level, printable.Clean(d.Name), d.Level)
		}
	}
	return nil
}

func (s *shared) levelGive() *cobra.Command {
	return s.ordering("give DEPLOYMENT LEVEL", "Give a deployment a service level, in the place of the one that it has",
		`What is promised then, what no more, and what keeping it costs is shown first. Where nothing was kept by rule yet, the first snapshot is taken.`, cobra.ExactArgs(2),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error) {
			return a.Levelling(ctx, d.ID, rest[0], time.Now())
		})
}

func (s *shared) levelDrop() *cobra.Command {
	return s.ordering("drop DEPLOYMENT", "Take the service level of a deployment away",
		`What it promises is kept up no more. Snapshots that were taken stay.`, cobra.ExactArgs(1),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) (deployments.Order, error) {
			return a.Levelling(ctx, d.ID, "", time.Now())
		})
}

// levelSettle gives many at once what they are to have.
func (s *shared) levelSettle() *cobra.Command {
	var o running
	cmd := &cobra.Command{
		Use: "settle", Short: "Give every deployment what a rule asks of it, and anew what was changed since it was given", Args: cobra.NoArgs,
		Long: `Works out for each deployment that has less than a rule requires, or a level as it was before it was changed, the plan that settles it. All are shown
first; they are run when the word all is typed, or given with --confirm. What cannot be settled is said with its reason, and hinders none of the others.`,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error { return s.settleLevels(ctx, a, o) }),
	}
	o.flags(cmd)
	cmd.Flags().StringVar(&o.confirm, "confirm", "", "the word all, which says that the plans shown are to be run")
	return cmd
}

func (s *shared) settleLevels(ctx context.Context, a *app.App, o running) error {
	states, err := a.LevelStates(ctx, time.Now())
	if err != nil {
		return err
	}
	var orders []deployments.Order
	refused := map[string]string{}
	for _, d := range states {
		level := d.Level
		switch {
		case d.Below:
			level = d.Required
		case !d.Outdated:
			continue
		}
		order, err := a.Levelling(ctx, d.Deployment, level, time.Now())
		if err != nil {
			refused[d.Name] = err.Error()
			continue
		}
		orders = append(orders, order)
	}
	return s.levelsShown(ctx, a, o, orders, refused)
}

// levelsShown shows orders, and begins them once that is confirmed.
func (s *shared) levelsShown(ctx context.Context, a *app.App, o running, orders []deployments.Order, refused map[string]string) error {
	if !s.json {
		for _, name := range slices.Sorted(maps.Keys(refused)) {
			fmt.Fprintf(s.out, "%s cannot be settled: %s\n", printable.Clean(name), printable.Clean(refused[name]))
		}
		for i := range orders {
			p := orders[i].Plan
			fmt.Fprintf(s.out, "%s: %s\n", printable.Clean(p.Purpose), printable.Count(len(p.Steps), "step"))
			for _, line := range p.Promised.Lines(p.Currency) {
				fmt.Fprintln(s.out, " ", printable.Clean(line))
			}
		}
	}
	if len(orders) == 0 {
		if s.json {
			return levellingValue.print(s, levelling{[]changing{}, refused})
		}
		fmt.Fprintln(s.out, "nothing is to be settled")
		return nil
	}
	if s.json && o.confirm == "" {
		var all []changing
		for i := range orders {
			all = append(all, reply.ChangeOf(orders[i]))
		}
		return errors.Join(errNo, levellingValue.print(s, levelling{all, refused}))
	}
	if err := s.confirmed("all", &o); err != nil {
		return err
	}
	o.detach = true
	for i := range orders {
		if err := s.begin(ctx, a, o, orders[i]); err != nil {
			return fmt.Errorf("%s: %w", orders[i].Plan.Purpose, err)
		}
	}
	return nil
}

func (s *shared) levelCheck() *cobra.Command {
	return checking(s, "service levels", level.Read, func(f *level.File) string {
		return printable.Count(len(f.Levels), "service level") + ": nothing is wrong"
	})
}

func (s *shared) levelSet() *cobra.Command {
	return setting(s, "Keep service levels; what has one keeps it as it was given", level.Read, (*app.App).SetLevels, func(f *level.File) string {
		return "kept: " + strings.Join(f.Names(), ", ")
	})
}
