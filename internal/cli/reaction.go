package cli

import (
	"context"
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
	"andamio/internal/core/react"
	"andamio/internal/service/reactions"
)

func (s *shared) reaction() *cobra.Command {
	cmd := &cobra.Command{Use: "reaction", Short: "List what is done by itself about how things are", Args: cobra.NoArgs,
		Long: `Reactions raise machines that fell, have tiers grow and shrink with their load, even hosts out, and move off sites that are in trouble (docs/reactions.md). Each either does
so, as a plan and a run of who set them, or proposes it. Listed is how each stands to the deployments that it is for. Exit status 1 says that one calls a person.`,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			all, err := a.Reacting(ctx)
			if err != nil {
				return err
			}
			return s.listReactions(all)
		})}
	cmd.AddCommand(s.reactionShow(), s.reactionCheck(), s.reactionSet(), s.reactionResume())
	return cmd
}

func (s *shared) listReactions(all []reactions.Status) error {
	called := false
	for i := range all {
		called = called || !all[i].State.Called.IsZero()
	}
	switch {
	case s.json:
		if err := reactionsValue.print(s, append([]reactions.Status{}, all...)); err != nil {
			return err
		}
	case len(all) == 0:
		fmt.Fprintln(s.out, "nothing is done by itself about how things are")
	default:
		w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
		fmt.Fprintln(w, "REACTION\tDEPLOYMENT\tDOES\tLAST\tSTATE")
		for i := range all {
			x := &all[i]
			last := "–"
			if n := len(x.State.Acts); n > 0 {
				last = x.State.Acts[n-1].At.Local().Format("2 Jan 15:04")
			}
			fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", x.Reaction, printable.Clean(x.Name), printable.Clean(x.Words), last, printable.Clean(x.Stands()))
		}
		if err := w.Flush(); err != nil {
			return err
		}
	}
	if called {
		return errNo
	}
	return nil
}

func (s *shared) reactionShow() *cobra.Command {
	return &cobra.Command{Use: "show REACTION DEPLOYMENT", Short: "Show what a reaction did to a deployment within a day, and why", Args: cobra.ExactArgs(2),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			d, err := a.FindDeployment(ctx, args[1])
			if err != nil {
				return err
			}
			all, err := a.Reacting(ctx)
			if err != nil {
				return err
			}
			for i := range all {
				if x := &all[i]; x.Reaction == args[0] && x.Deployment == d.ID {
					return s.showReaction(x)
				}
			}
			return fault.NotFoundf("no reaction %q is for %s; andamio reaction lists them", args[0], d.Name)
		})}
}

func (s *shared) showReaction(x *reactions.Status) error {
	if s.json {
		return reactionValue.print(s, *x)
	}
	fmt.Fprintf(s.out, "%s %s\n%s\n", x.Reaction, printable.Clean(x.Words), printable.Clean(x.Stands()))
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for i := range x.State.Acts {
		a := &x.State.Acts[i]
		fmt.Fprintf(w, "%s\t%s\t%s\n", a.At.Local().Format("2 Jan 15:04:05"), a.Words(), printable.Clean(a.Why))
	}
	return w.Flush()
}

func (s *shared) reactionCheck() *cobra.Command {
	return checking(s, "reactions", react.Read, func(f *react.File) string {
		text := printable.Count(len(f.Reactions), "reaction") + ": nothing is wrong"
		for i := range f.Reactions {
			text += fmt.Sprintf("\n  %s %s", f.Reactions[i].Name, printable.Clean(f.Reactions[i].Words()))
		}
		return text
	})
}

func (s *shared) reactionSet() *cobra.Command {
	return setting(s, "Keep reactions, which are done in your name", react.Read, (*app.App).SetReactions, func(f *react.File) string {
		return printable.Count(len(f.Reactions), "reaction") + " kept"
	})
}

func (s *shared) reactionResume() *cobra.Command {
	return &cobra.Command{Use: "resume REACTION DEPLOYMENT", Short: "Have a reaction act again that called a person, or acted as often as it may", Args: cobra.ExactArgs(2),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			d, err := a.FindDeployment(ctx, args[1])
			if err != nil {
				return err
			}
			if err := a.ResumeReaction(ctx, args[0], d.ID); err != nil {
				return err
			}
			fmt.Fprintf(s.out, "%s acts on %s again, as if it had done nothing within the last %s\n", args[0], printable.Clean(d.Name), react.Within.Round(time.Hour))
			return nil
		})}
}
