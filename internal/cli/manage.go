package cli

import (
	"context"
	"errors"
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reconcile"
)

func (s *shared) manage() *cobra.Command {
	var o running
	var w reconcile.TakeOverRequest
	cmd := &cobra.Command{
		Use:   "manage MACHINE...",
		Short: "Have machines that nobody deployed here be a deployment",
		Long: `Takes note of machines that a survey has seen and nobody deployed here, each named as SITE/ID or by its name, with their disks, interfaces
and networks: from then on they are stopped, started, kept, moved and packed as what was deployed, and andamio capture makes a
template of them. Nothing changes at the site. Networks stay other people's, and are never removed. andamio unmanage lets the
machines go again, as they are then; andamio retire removes them.

It is shown first, and done when the deployment's name is typed, or given with --confirm.`,
		Args: cobra.MinimumNArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			w.Records = args
			order, err := a.TakingOver(ctx, w)
			if err != nil {
				return err
			}
			if s.json && o.confirm == "" {
				return errors.Join(errNo, planValue.print(s, order.Plan))
			}
			if !s.json {
				s.printTakeover(order.Plan)
			}
			if err := s.confirmed(order.Plan.Name, &o); err != nil {
				return err
			}
			return s.begin(ctx, a, o, order)
		}),
	}
	o.changing(cmd)
	takeoverFlags(cmd, &w)
	return cmd
}

func takeoverFlags(cmd *cobra.Command, w *reconcile.TakeOverRequest) {
	cmd.Flags().StringVar(&w.Name, "name", "", "name of the deployment; without it that of the first machine")
	cmd.Flags().IntSliceVar(&w.Ports, "port", nil, "port on which they serve, beside what was seen; may be given again")
}

// printTakeover lists what is taken over.
func (s *shared) printTakeover(p *plan.Plan) {
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for i := range p.Resources {
		r := &p.Resources[i]
		fmt.Fprintf(w, "take over\t%s\t%s\t%s\t%s\n", r.Site, r.Kind, printable.Clean(r.Title), printable.Clean(r.Detail))
	}
	w.Flush()
	fmt.Fprintf(s.out, "\n%s: %s, as they are; nothing changes at the site\n", printable.Clean(p.Name), printable.Count(len(p.Resources), "thing"))
}

func (s *shared) unmanage() *cobra.Command {
	var o running
	cmd := &cobra.Command{
		Use:   "unmanage DEPLOYMENT",
		Short: "Let go of a deployment: everything stays at the sites as it is",
		Long: `Forgets what stands of a deployment, and does nothing at any site: its machines run on, and are nobody's here. It is shown first, and
done when the deployment's name is typed, or given with --confirm.`,
		Args: cobra.ExactArgs(1),
		RunE: s.withDeployment(func(ctx context.Context, a *app.App, d *deployments.Deployment, _ []string) error {
			order, err := a.LettingGo(ctx, d.ID)
			if err != nil {
				return err
			}
			return s.show(ctx, a, o, order)
		}),
	}
	o.changing(cmd)
	return cmd
}
