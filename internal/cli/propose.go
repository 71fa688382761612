package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/reply"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
)

// propose keeps an order for somebody to confirm, and says how.
func (s *shared) propose(ctx context.Context, a *app.App, order deployments.Order, holds time.Duration) error {
	return s.proposed(a.Propose(ctx, order, holds))
}

// proposed says of what was kept how it is confirmed.
func (s *shared) proposed(p *runs.Proposal, err error) error {
	if err != nil {
		return err
	}
	if s.json {
		return proposalValue.print(s, p)
	}
	fmt.Fprintf(s.out, "proposal %d holds until %s; andamio confirm %d begins it\n", p.ID, p.Until.Local().Format("2006-01-02 15:04"), p.ID)
	return nil
}

func (s *shared) proposals() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use:   "proposals",
		Short: "List the plans that were proposed and wait for somebody to confirm them",
		Long: `Commands that change what stands make a proposal with --propose instead of beginning anything. It holds for a time, and only as
long as what it was worked out from is as it was.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			found, err := a.Proposals(ctx)
			if err != nil {
				return err
			}
			out := []proposed{}
			for _, p := range found {
				_, _, why := a.Proposed(ctx, p.ID)
				if why != nil && !all {
					continue
				}
				l := proposed{Proposal: p}
				if why != nil {
					l.Why = why.Error()
				}
				out = append(out, l)
			}
			if s.json {
				return proposalsValue.print(s, out)
			}
			if len(out) == 0 {
				fmt.Fprintln(s.out, "nothing waits to be confirmed")
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			for _, l := range out {
				state := "until " + l.Until.Local().Format("2006-01-02 15:04")
				if l.Why != "" {
					state = l.Why
				}
				fmt.Fprintf(w, "%d\t%s\t%s\t%s\n", l.ID, printable.Clean(l.Purpose), printable.Clean(l.By.String()), printable.Clean(state))
			}
			return w.Flush()
		}),
	}
	cmd.Flags().BoolVar(&all, "all", false, "those too that cannot be confirmed any more, with why")
	return cmd
}

// proposalNumber reads the number of a proposal.
func proposalNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return 0, usageError{fmt.Errorf("%q is no number of a proposal", text)}
	}
	return id, nil
}

func (s *shared) confirm() *cobra.Command {
	var o running
	cmd := &cobra.Command{
		Use:   "confirm PROPOSAL",
		Short: "Show what was proposed, and begin it once the deployment's name is typed again",
		Long: `Shows the proposal's plan as it was worked out, and begins it if what it was worked out from is as it was; else says what
changed. A proposal is confirmed once.`,
		Args: exactly(1, "name the proposal by its number"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			id, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			p, order, err := a.Proposed(ctx, id)
			if err != nil {
				return err
			}
			if p.Settles() {
				return s.confirmSettling(ctx, a, p, &o)
			}
			if err := s.showProposed(ctx, a, p, order, &o); err != nil {
				return err
			}
			out, err := a.Confirm(ctx, id)
			if err != nil {
				return err
			}
			if p.Moves() { // it may wait for days to be cut over
				return s.moveBegun(out)
			}
			return s.begun(ctx, a, o, out.Run)
		}),
	}
	cmd.Flags().BoolVar(&o.detach, "detach", false, "return at once with the run's number")
	cmd.Flags().StringVar(&o.confirm, "confirm", "", "name of the deployment, or what else is asked for, which says that what is shown is to be done")
	return cmd
}

// showProposed prints what was proposed and has the deployment's name typed again.
func (s *shared) showProposed(ctx context.Context, a *app.App, p *runs.Proposal, order deployments.Order, o *running) error {
	if s.json && o.confirm == "" {
		return errors.Join(errNo, changeValue.print(s, reply.ChangeOf(order)))
	}
	if !s.json {
		fmt.Fprintf(s.out, "proposed by %s %s\n", printable.Clean(p.By.String()), p.Created.Local().Format("2006-01-02 15:04"))
		if p.Deployment != 0 {
			d, err := a.Deployment(ctx, p.Deployment)
			if err != nil {
				return err
			}
			s.printChange(ctx, a, d, order)
		} else {
			fmt.Fprintf(s.out, "%s: %s\n", printable.Clean(p.Purpose), printable.Count(len(order.Plan.Steps), "step"))
		}
	}
	return s.confirmed(p.Name, o)
}

// confirmed has a deployment's name typed again, where somebody is there to be asked.
func (s *shared) confirmed(name string, o *running) error {
	if o.confirm == "" && s.asks() {
		fmt.Fprintf(s.out, "type %s to run it: ", printable.Clean(name))
		line, _ := bufio.NewReader(s.in).ReadString('\n')
		o.confirm = strings.TrimSpace(line)
	}
	switch {
	case o.confirm == "":
		return unconfirmed("nothing was done; --confirm %s runs it", name)
	case o.confirm != name:
		return unconfirmed("nothing was done: %q is not the deployment's name, %s", o.confirm, name)
	}
	return nil
}

// moveBegun says how a move that was confirmed is followed.
func (s *shared) moveBegun(out runs.Confirmed) error {
	if s.json {
		return confirmedValue.print(s, out)
	}
	fmt.Fprintf(s.out, "the move has begun, as run %d; andamio move status shows it, and how it is cut over\n", out.Run)
	return nil
}

// confirmSettling shows what was proposed to settle, and settles it once its name is typed again.
func (s *shared) confirmSettling(ctx context.Context, a *app.App, p *runs.Proposal, o *running) error {
	would, err := a.ProposedSettling(ctx, p.ID)
	if err != nil {
		return err
	}
	if s.json && o.confirm == "" {
		return errors.Join(errNo, settlingValue.print(s, wouldSettle{would.Items, lossesOf(would)}))
	}
	if !s.json {
		fmt.Fprintf(s.out, "proposed by %s %s\n", printable.Clean(p.By.String()), p.Created.Local().Format("2006-01-02 15:04"))
		s.printSettling(would)
	}
	if err := s.confirmed(p.Name, o); err != nil {
		return err
	}
	out, err := a.Confirm(ctx, p.ID)
	if err != nil {
		return err
	}
	if s.json || o.detach {
		return confirmedValue.print(s, out)
	}
	fmt.Fprintf(s.out, "act %d is begun; andamio reconcile --undo %d takes it back\n", out.Act, out.Act)
	for _, id := range out.Runs {
		if err := s.follow(ctx, a, id, false); err != nil {
			return err
		}
	}
	return nil
}

func (s *shared) withdraw() *cobra.Command {
	return &cobra.Command{
		Use:   "withdraw PROPOSAL",
		Short: "Take back a proposal that nobody has confirmed",
		Long:  `Nothing can be begun from it any more; it stays in the list of --all.`,
		Args:  exactly(1, "name the proposal by its number"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			id, err := proposalNumber(args[0])
			if err != nil {
				return err
			}
			if err := a.Withdraw(ctx, id); err != nil {
				return err
			}
			if s.json {
				return withdrawnValue.print(s, withdrawn{Withdrawn: id})
			}
			fmt.Fprintf(s.out, "proposal %d is withdrawn\n", id)
			return nil
		}),
	}
}
