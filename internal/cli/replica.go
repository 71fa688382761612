package cli

import (
	"context"
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/replicas"
)

// replica lists the copies of a deployment at other sites, renews, fails over to and drops them.
func (s *shared) replica() *cobra.Command {
	cmd := &cobra.Command{
		Use: "replica DEPLOYMENT", Short: "List the copies of a deployment's disks at other sites; renew, fail over to and drop them", Args: cobra.ExactArgs(1),
		Long: `Lists what is kept of a deployment at other sites: of which moment, how much it holds, and what keeping it costs. Copies are made of snapshots
that are taken together, so that they are of one moment as these are (docs/snapshots.md), and renewed by what was written since.`,
		RunE: s.withDeployment(s.listReplicas),
	}
	cmd.AddCommand(s.replicaRenew(), s.replicaEvery(), s.replicaFailOver(), s.replicaDrop())
	return cmd
}

func (s *shared) listReplicas(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) error {
	all, err := a.Replicas(ctx, d.ID)
	if err != nil {
		return err
	}
	if s.json {
		return replicasValue.print(s, replicasOf{d.ID, all})
	}
	if len(all) == 0 {
		fmt.Fprintf(s.out, "no copies of %s are kept elsewhere; andamio replica renew %s SITE makes some\n", printable.Clean(d.Name), printable.Clean(d.Name))
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "SITE\tAS OF\tDISKS\tHOLDS\tCOSTS\t")
	for i := range all {
		x := &all[i]
		as := "not whole yet"
		if !x.As.IsZero() {
			as = x.As.Local().Format("2006-01-02 15:04:05")
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s %s/h\t\n", x.Site, as, disksNamed(x.Disks), printable.Bytes(x.Held), x.PerHour, printable.Clean(d.Stand.Plan.Currency))
	}
	return w.Flush()
}

func (s *shared) replicaRenew() *cobra.Command {
	var w replicas.Request
	var limit float64
	cmd := s.ordering("renew DEPLOYMENT SITE", "Make copies at a site like the disks of a deployment are now",
		`Snapshots of the disks are taken together, and what was written since the last time is copied from them while all runs on; the first time that is all
of it. What can be failed over to is as it was before until all copies are whole. The sites have to be paired (andamio pair).`, cobra.ExactArgs(2),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error) {
			w.Site, w.Limit = rest[0], int64(limit*1e6)
			return a.Replicating(ctx, d.ID, w, time.Now())
		})
	cmd.Flags().StringSliceVar(&w.Of, "of", nil, "tier, instance or volume; may be given again (default: all that is not there)")
	cmd.Flags().BoolVar(&w.Barrier, "barrier", false, "have all machines stand still while snapshots are taken")
	cmd.Flags().Float64Var(&limit, "limit", 0, "megabytes a second at most; 0 is as many as get through")
	return cmd
}

func (s *shared) replicaEvery() *cobra.Command {
	var terms promise.ReplicatedTerms
	var often recurring
	var lose string
	cmd := s.promising("every DEPLOYMENT", "Have copies at a site be renewed by a rule",
		`Promises that copies of the deployment's disks are kept at another site, and that no more is lost than is said when they are failed over to.`,
		func(now time.Time, p *promise.Promise) (err error) {
			p.Kind, p.Replicated = promise.Replicated, &terms
			if lose != "" {
				if terms.Lose, err = promise.ParseSpan(lose); err != nil {
					return err
				}
			}
			terms.When, err = often.when(now)
			return err
		})
	cmd.Flags().StringVar(&terms.Site, "to", "", "the site")
	often.flags(cmd, "FREQ=HOURLY", "00:30")
	cmd.Flags().StringVar(&lose, "lose", "", "how old a copy may be at most, as in 4h")
	cmd.Flags().StringSliceVar(&terms.Of, "of", nil, "tier, instance or volume; may be given again (default: all)")
	cmd.Flags().BoolVar(&terms.Barrier, "barrier", false, "have all machines stand still while snapshots are taken")
	cmd.AddCommand(s.dropping("drop DEPLOYMENT", "Have copies be renewed by rule no more; those that there are stay", promise.Replicated))
	return cmd
}

func (s *shared) replicaFailOver() *cobra.Command {
	var w moves.FailOver
	var o running
	cmd := &cobra.Command{
		Use: "failover DEPLOYMENT SITE", Short: "Go on at a site with what its copies hold", Args: cobra.ExactArgs(2),
		Long: `The machines are built where the copies are and begin with what these hold; what was written since is lost. Where they were they are switched off before;
at a site that does not answer nothing is done, and they are switched off when it does, by whoever serves the workspace. Names follow. It is a move:
andamio move commit takes away what was left, andamio move back goes back and takes along what was written meanwhile.

What it changes is shown first; it is begun when the deployment's name is typed, or given with --confirm.`,
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) error {
			w.To = rest[0]
			draft, err := a.DraftFailOver(ctx, d.ID, w)
			if err != nil {
				return err
			}
			if o.confirm == "" || !s.json {
				if err := s.printDraft(draft); err != nil {
					return err
				}
			}
			if err := s.confirmed(d.Name, &o); err != nil {
				return err
			}
			id, runID, err := a.StartMove(ctx, draft, nil)
			if err != nil {
				return err
			}
			if s.json {
				return moveBegunValue.print(s, moveBegun{id, runID})
			}
			fmt.Fprintf(s.out, "move %d has begun, as run %d; andamio move back %d goes back, andamio move commit %d takes away what is left\n", id, runID, id, id)
			return s.follow(ctx, a, runID, false)
		}),
	}
	cmd.Flags().StringVar(&o.confirm, "confirm", "", "the deployment's name, to do it without asking")
	cmd.Flags().StringSliceVar(&w.What, "of", nil, "instance, node or service; may be given again (default: all that copies are kept of there)")
	cmd.Flags().StringSliceVar(&w.Lift, "lift", nil, "rule that it may break; may be given again")
	return cmd
}

func (s *shared) replicaDrop() *cobra.Command {
	return s.ordering("drop DEPLOYMENT SITE", "Take the copies at a site away", `Nothing can be failed over to there then.`, cobra.ExactArgs(2),
		func(ctx context.Context, a *app.App, d *deployments.Deployment, rest []string) (deployments.Order, error) {
			return a.DroppingReplica(ctx, d.ID, rest[0])
		})
}
