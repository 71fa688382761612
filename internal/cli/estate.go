package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/estate"
	"andamio/internal/core/printable"
	"andamio/internal/core/usage"
)

func (s *shared) estate() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "estate",
		Short: "Show what the sites offer and what is free, or check a file that says so",
		Args:  cobra.NoArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(s.estateShow(), s.estateRooms(), s.estateImport(), s.estateRelease())
	return cmd
}

func (s *shared) estateShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show [FILE]",
		Short: "Print sites, rooms, what is free, sizes, prices and pools: of a file, or of the connected sites",
		Args:  atMostOne,
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.anEstate(cmd.Context(), args)
			if err != nil {
				return err
			}
			if err := s.printEstate(e); err != nil || s.json || len(args) > 0 {
				return err
			}
			return s.printSleepers(cmd.Context(), e)
		},
	}
}

// loads are how full the sites are, with what is held and what is paused.
func (s *shared) loads(ctx context.Context, e *estate.Estate) ([]usage.Site, error) {
	a, err := s.open(ctx)
	if err != nil {
		return nil, err
	}
	defer a.Close()
	claims, err := a.Claims(ctx)
	loads := usage.Of(e, nil, nil)
	usage.Claimed(loads, claims)
	return loads, err
}

// estateRooms says how full the sites are.
func (s *shared) estateRooms() *cobra.Command {
	return &cobra.Command{
		Use:   "rooms",
		Short: "Say of each connected site what is used, paused, held and free, and whose what sleeps is",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			e, err := s.anEstate(cmd.Context(), nil)
			if err != nil {
				return err
			}
			loads, err := s.loads(cmd.Context(), e)
			switch {
			case err != nil:
				return err
			case s.json:
				return roomsValue.print(s, fullnessOf(loads))
			}
			s.printLoads(loads)
			s.printAway(e)
			return nil
		},
	}
}

// fullnessOf is how full sites are, as programs are told.
func fullnessOf(loads []usage.Site) []siteFullness {
	out := []siteFullness{}
	of := func(l usage.Load) fullness { return fullness{l.Total, l.Used, l.Paused, l.Held, l.Free()} }
	for _, l := range loads {
		f := siteFullness{Site: l.Site.Name, Cores: of(l.Cores), Memory: of(l.Memory), Disk: of(l.Disk)}
		for _, x := range l.Sleepers() {
			f.Sleeping = append(f.Sleeping, sleeping{x.Of, x.Instances, x.Takes})
		}
		out = append(out, f)
	}
	return out
}

// printSleepers says of each site what is used, paused, held and free, and whose what sleeps is, where anything is paused or held.
func (s *shared) printSleepers(ctx context.Context, e *estate.Estate) error {
	loads, err := s.loads(ctx, e)
	if err == nil && slices.ContainsFunc(loads, func(l usage.Site) bool { return len(l.Claims) > 0 }) {
		s.printLoads(loads)
	}
	return err
}

func (s *shared) printLoads(loads []usage.Site) {
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', tabwriter.AlignRight)
	fmt.Fprintln(w, "\ncores\tused\tpaused\theld\tfree\t")
	for _, l := range loads {
		fmt.Fprintf(w, "%s\t%.0f\t%.0f\t%.0f\t%.0f\t\n", printable.Clean(l.Site.Name), l.Cores.Used, l.Cores.Paused, l.Cores.Held, l.Cores.Free())
	}
	w.Flush()
	for _, l := range loads {
		for _, x := range l.Sleepers() {
			fmt.Fprintf(s.out, "%s: %s sleeps: %s, %s, %s\n", printable.Clean(l.Site.Name), printable.Clean(cmp.Or(x.Of, "another team's")), printable.Count(x.Instances, "machine"),
				estate.Cores(x.Takes.Cores), estate.GiB(x.Takes.MemoryGiB))
		}
	}
}

func (s *shared) estateImport() *cobra.Command {
	var out string
	cmd := &cobra.Command{
		Use:   "import [FILE]",
		Short: "Read an estate from a file (YAML or JSON) or the connected sites, check it and write it as JSON",
		Args:  atMostOne,
		RunE: func(cmd *cobra.Command, args []string) error {
			e, err := s.anEstate(cmd.Context(), args)
			if err != nil {
				return err
			}
			data, err := e.Write()
			if err != nil {
				return err
			}
			if out == "" {
				_, err = s.out.Write(data)
				return err
			}
			if err := os.WriteFile(out, data, 0o644); err != nil {
				return err
			}
			if s.json {
				return writtenSitesValue.print(s, writtenSites{out, len(e.Sites)})
			}
			fmt.Fprintf(s.out, "%d sites written to %s; andamio plan TEMPLATE --estate %s plans for them\n", len(e.Sites), out, out)
			return nil
		},
	}
	cmd.Flags().StringVarP(&out, "output", "o", "", "file to write (default: print it)")
	return cmd
}

func (s *shared) estateRelease() *cobra.Command {
	return &cobra.Command{
		Use:   "release RUN",
		Short: "Give back the addresses and VLANs of a run that has ended without standing",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usageError{errors.New("release needs the number of a run")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			a, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer a.Close()
			id, err := findRun(cmd.Context(), a, args)
			if err != nil {
				return err
			}
			n, err := a.Release(cmd.Context(), id)
			if err != nil {
				return err
			}
			if s.json {
				return releasedValue.print(s, released{id, n})
			}
			fmt.Fprintf(s.out, "run %d gave back %d addresses and VLANs\n", id, n)
			return nil
		},
	}
}

func atMostOne(_ *cobra.Command, args []string) error {
	if len(args) > 1 {
		return usageError{fmt.Errorf("one file is enough, and there are %d", len(args))}
	}
	return nil
}

// anEstate is that of the file named, else that of the connected sites that answer.
func (s *shared) anEstate(ctx context.Context, args []string) (*estate.Estate, error) {
	if len(args) == 1 {
		return readEstate(args[0])
	}
	return s.connectedEstate(ctx, (*app.App).Answering)
}

// printAway says which sites do not answer, and why.
func (s *shared) printAway(e *estate.Estate) {
	for _, x := range e.Away {
		fmt.Fprintf(s.out, "%s is away: %s\n", printable.Clean(x.Name), printable.Clean(x.Why))
	}
}

func (s *shared) printEstate(e *estate.Estate) error {
	if s.json {
		data, err := e.Write()
		if err != nil {
			return err
		}
		_, err = s.out.Write(data)
		return err
	}
	var free, total estate.Capacity
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for _, site := range e.Sites {
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", printable.Clean(site.Name), site.Kind, reachWords(site), printable.Clean(strings.Join(site.Features, ", ")))
		for _, r := range site.Rooms() {
			free, total = free.Plus(r.Free), total.Plus(r.Total)
			of := ""
			if !r.Total.IsZero() {
				of = "of " + r.Total.String()
			}
			fmt.Fprintf(w, "  %s\tfree\t%s\t%s\n", printable.Clean(r.Name()), r.Free, of)
		}
		if n, all := site.Addresses(); all > 0 {
			fmt.Fprintf(w, "  addresses\tfree\t%d of %d\t\n", n, all)
		}
		if n, all := site.VLANs(); all > 0 {
			fmt.Fprintf(w, "  VLANs\tfree\t%d of %d\t\n", n, all)
		}
		for _, z := range site.Sizes {
			fmt.Fprintf(w, "  size %s\t\t%s, %s\t%.4f %s/h\n", printable.Clean(z.Name), estate.Cores(z.Cores), estate.GiB(z.MemoryGiB), z.PricePerHour, e.Currency)
		}
		if site.FreeForm {
			fmt.Fprintf(w, "  any size\t\t\t%.4f %s/h a core, %.4f a GiB of memory\n", site.Prices.Core, e.Currency, site.Prices.Memory)
		}
	}
	w.Flush()
	fmt.Fprintf(s.out, "\n%s, free: %s of %s\n", printable.Count(len(e.Sites), "site"), free, total)
	s.printAway(e)
	return nil
}

func reachWords(site *estate.Site) string {
	if site.Network == estate.Ports {
		return "ports of one address"
	}
	return "an address each"
}
