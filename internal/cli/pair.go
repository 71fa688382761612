package cli

import (
	"context"
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/service/sites"
)

func (s *shared) pair() *cobra.Command {
	var start string
	cmd := &cobra.Command{
		Use:   "pair [SITE SITE]",
		Short: "Pair two sites for moves, or show how all pairs are",
		Long: `Has two connected sites exchange keys, so that disks are copied from one straight to the other, and tries the links
between them: whether each reaches the other, how far their clocks are apart, how much gets through, and what is free.
Sites that know no others, as hosts with libvirt, exchange nothing: what is copied goes by way of where the run is.
--start says from whose side moves may be started: one of the two sites, or both. Without sites all pairs are tried
again; the exit status is 1 if anything is the matter with one.`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) == 0 || len(args) == 2 {
				return nil
			}
			return fmt.Errorf("name two sites, or none")
		},
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if len(args) == 0 {
				all, err := a.CheckPairs(ctx)
				if err != nil {
					return err
				}
				return s.printPairs(all)
			}
			p, err := a.MakePair(ctx, args[0], args[1], start)
			if err != nil {
				return err
			}
			return s.printPairs([]sites.Pair{p})
		}),
	}
	cmd.Flags().StringVar(&start, "start", sites.Both, "from whose side moves may be started: a site, or both")
	cmd.AddCommand(&cobra.Command{
		Use: "remove SITE SITE", Short: "Have two sites forget each other", Args: exactly(2, "name the two sites"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if err := a.Unpair(ctx, args[0], args[1]); err != nil {
				return err
			}
			if s.json {
				return removedPairValue.print(s, removedPair{args})
			}
			fmt.Fprintf(s.out, "%s and %s are paired no more\n", args[0], args[1])
			return nil
		}),
	})
	return cmd
}

func (s *shared) printPairs(all []sites.Pair) error {
	bad := 0
	for _, p := range all {
		if !p.Well() {
			bad++
		}
	}
	answer := error(nil)
	if bad > 0 {
		answer = errNo
	}
	if s.json {
		if all == nil {
			all = []sites.Pair{}
		}
		if err := pairsValue.print(s, all); err != nil {
			return err
		}
		return answer
	}
	if len(all) == 0 {
		fmt.Fprintln(s.out, "no sites are paired; andamio pair SITE SITE pairs two")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "FROM\tTO\tLINK\tROUND TRIP\tCLOCK\tTHROUGH\tSTARTED FROM\tFREE THERE")
	for _, p := range all {
		for _, way := range []struct {
			from, to string
			t        app.Trial
		}{{p.A, p.B, p.AtoB}, {p.B, p.A, p.BtoA}} {
			if !way.t.Reachable {
				fmt.Fprintf(w, "%s\t%s\tnot reached: %s\t\t\t\t%s\t%s\n", way.from, way.to, printable.Clean(way.t.Why), p.Start, p.Free[way.to])
				continue
			}
			clock := fmt.Sprintf("%+.1f s", way.t.Ahead.Seconds())
			if p.Relayed {
				clock = "" // neither asks the other
			}
			fmt.Fprintf(w, "%s\t%s\treached\t%.1f ms\t%s\t%s\t%s\t%s\n", way.from, way.to, float64(way.t.RoundTrip)/1e6, clock, p.Through(way.to), p.Start, p.Free[way.to])
		}
	}
	if err := w.Flush(); err != nil {
		return err
	}
	for _, p := range all {
		if why := p.Trouble(); why != "" {
			fmt.Fprintf(s.out, "\n%s and %s: %s\n", p.A, p.B, printable.Clean(why))
		}
	}
	if len(all) > 0 {
		fmt.Fprintf(s.out, "\ntried %s\n", all[0].Checked.Format(time.TimeOnly+" MST"))
	}
	return answer
}
