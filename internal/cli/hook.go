package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/hook"
	"andamio/internal/core/printable"
)

// lastDeliveries is how many events are listed.
const lastDeliveries = 30

func (s *shared) hook() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "hook",
		Short: "Say which hooks there are, and what they told last",
		Long: `Hooks are what changes set off: a service is called, or people are written to, when a run may begin, begins or ends, or a request is asked,
decided or serves (see docs/hooks.md). Each event is told once by each hook, by the process that serves the workspace.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error { return s.printHooks(ctx, a) }),
	}
	cmd.AddCommand(s.hookCheck(), s.hookSet(), s.hookAgain())
	return cmd
}

func (s *shared) printHooks(ctx context.Context, a *app.App) error {
	f, err := a.Hooks()
	if err != nil {
		return err
	}
	last, err := a.Deliveries(ctx, lastDeliveries)
	if err != nil {
		return err
	}
	if s.json {
		return hooksValue.print(s, hooks{f.Hooks, last})
	}
	if len(f.Hooks) == 0 {
		fmt.Fprintln(s.out, "there are no hooks; docs/hooks.md says how they are written, and andamio hook set FILE keeps them")
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for i := range f.Hooks {
		h := &f.Hooks[i]
		var on []string
		for _, t := range h.On {
			on = append(on, string(t))
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", printable.Clean(h.Name), strings.Join(on, " "), printable.Clean(h.Does()), printable.Clean(h.When))
	}
	if len(last) > 0 {
		fmt.Fprintln(w, "\nNUMBER\tHOOK\tTOLD\tOF\tSTATE\t")
	}
	for _, d := range last {
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\n", d.ID, printable.Clean(d.Hook), d.Event.Type, printable.Clean(d.Event.Name), d.State, printable.Clean(d.Note))
	}
	return w.Flush()
}

func (s *shared) hookCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Say what is wrong with a file of hooks",
		Args:  cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, _, err := readFile(args[0], hook.Read)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.out, "%s: nothing is wrong\n", printable.Count(len(f.Hooks), "hook"))
			return nil
		},
	}
}

func (s *shared) hookSet() *cobra.Command {
	return &cobra.Command{
		Use:   "set FILE",
		Short: "Keep hooks; what happens from then on sets them off",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			_, text, err := readFile(args[0], hook.Read)
			if err != nil {
				return err
			}
			f, err := a.SetHooks(ctx, text)
			if err != nil {
				return named(args[0], err)
			}
			fmt.Fprintf(s.out, "kept: %s; what happens from now on sets them off\n", printable.Count(len(f.Hooks), "hook"))
			without, err := missing(a, f)
			for _, name := range without {
				fmt.Fprintf(s.out, "the secret %s is not kept yet: andamio credentials secret %s keeps it\n", name, name)
			}
			return err
		}),
	}
}

// missing are the secrets that hooks need and that are not kept.
func missing(a *app.App, f *hook.File) ([]string, error) {
	var need []string
	if f.Mail != nil && f.Mail.Secret != "" {
		need = append(need, f.Mail.Secret)
	}
	for i := range f.Hooks {
		if name := f.Hooks[i].Secret; name != "" {
			need = append(need, name)
		}
	}
	return a.MissingSecrets(need)
}

func (s *shared) hookAgain() *cobra.Command {
	return &cobra.Command{
		Use:   "again NUMBER",
		Short: "Tell an event again that was given up, or of which nobody knows whether it arrived",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return fault.Invalidf("%q is no number of an event that was told; andamio hook lists them", args[0])
			}
			if err := a.Resend(ctx, id); err != nil {
				return err
			}
			n, err := a.Deliver(ctx, time.Now())
			if err != nil {
				return err
			}
			fmt.Fprintf(s.out, "%s told\n", printable.Count(n, "event"))
			return nil
		}),
	}
}
