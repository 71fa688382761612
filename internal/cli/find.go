package cli

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
	"andamio/internal/service/reconcile"
)

func (s *shared) find() *cobra.Command {
	return &cobra.Command{
		Use:   "find TEXT...",
		Short: "Find anything by a part of its name or address",
		Long: `Finds sites, deployments and all that stands of them, published names, runs, findings and records that have all the
words in their name, sort, place or address; the likeliest comes first.`,
		Args: cobra.MinimumNArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			inv, err := a.Reconcile(ctx)
			if err != nil {
				return err
			}
			all, err := a.Things(ctx, inv, nil)
			if err != nil {
				return err
			}
			text := strings.Join(args, " ")
			found := reconcile.Find(text, all)
			if s.json {
				if found == nil {
					found = []reconcile.Thing{}
				}
				err = foundValue.print(s, found)
			} else {
				err = s.printFound(found)
			}
			if err == nil && len(found) == 0 {
				return fault.NotFoundf("nothing has %q in its name, place or address; there are %d things to find", text, len(all))
			}
			return err
		}),
	}
}

func (s *shared) printFound(found []reconcile.Thing) error {
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for _, t := range found {
		id := t.ID
		if id == t.Name {
			id = ""
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", t.What, printable.Clean(t.Name), strings.Join(t.Addresses, " "), printable.Clean(t.Where), printable.Clean(id))
	}
	return w.Flush()
}
