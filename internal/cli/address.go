package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/printable"
	"andamio/internal/core/promise"
)

// leaseAddress keeps addresses and VLANs of sites for what is not deployed here.
func (s *shared) leaseAddress() *cobra.Command {
	var until, long string
	var notice []string
	var l promise.AddressLease
	cmd := &cobra.Command{Use: "address SITE [ADDRESS|vlan|vlan-N]", Short: "Keep an address of a site for something that is not deployed here", Args: cobra.RangeArgs(1, 2),
		Long: `Leases an address of a site's pools, the lowest free one where none is named, or a VLAN of its range (vlan, or vlan-12): no plan is given it
until it is returned, by hand or at the end, when it is free again by itself. The notices before the end are in the log of what was due, and
Today has what ends within a week.`,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			now := time.Now()
			var err error
			if l.For == "" {
				return usageError{errors.New("say what has it, with --note")}
			}
			if l.Until, err = whenEnds(now, until, long); err != nil {
				return usageError{err}
			}
			if l.Notice, err = notices(now, l.Until, notice); err != nil {
				return usageError{err}
			}
			l.Site = args[0]
			if len(args) > 1 {
				l.Value = leasedAs(args[1])
			}
			got, err := a.LeaseAddress(ctx, l, now)
			return s.leased(got, err)
		})}
	cmd.Flags().StringVar(&l.For, "note", "", "what has it, in some words")
	cmd.Flags().StringVar(&until, "until", "", "when it ends (RFC 3339, or a day)")
	cmd.Flags().StringVar(&long, "for", "", "or how long from now, such as 30d")
	cmd.Flags().StringSliceVar(&notice, "notice", []string{"7d", "1d"}, "how long before the end it is said; may be given again")
	cmd.AddCommand(s.leaseAddressList(), s.leaseAddressExtend(), s.leaseAddressReturn())
	return cmd
}

// leasedAs is what is leased by a word: "vlan-12" is one word for "vlan 12".
func leasedAs(word string) string {
	if n, is := strings.CutPrefix(word, "vlan-"); is {
		return "vlan " + n
	}
	return word
}

// notices are how long before an end it is said, of which those count that are not over.
func notices(now, end time.Time, words []string) (out []time.Duration, err error) {
	for _, text := range words {
		n, err := promise.ParseSpan(text)
		if err != nil {
			return nil, err
		}
		if end.Add(-n).After(now) {
			out = append(out, n)
		}
	}
	return out, nil
}

// leased says what is leased now.
func (s *shared) leased(l promise.AddressLease, err error) error {
	switch {
	case err != nil:
		return err
	case s.json:
		return addressLeaseValue.print(s, l)
	}
	fmt.Fprintln(s.out, printable.Clean(l.Words()))
	return nil
}

func (s *shared) leaseAddressList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List what is leased of sites' addresses and VLANs", Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			all, err := a.AddressLeases(ctx)
			if err != nil {
				return err
			}
			if s.json {
				return addressLeasesValue.print(s, all)
			}
			if len(all) == 0 {
				fmt.Fprintln(s.out, "no address is leased; andamio lease address SITE leases one")
				return nil
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			fmt.Fprintln(w, "SITE\tADDRESS\tFOR\tUNTIL\tBY")
			for i := range all {
				l := &all[i]
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", printable.Clean(l.Site), l.Value, printable.Clean(l.For), l.Until.Local().Format("2006-01-02 15:04"), printable.Clean(l.By.Name))
			}
			return w.Flush()
		})}
}

func (s *shared) leaseAddressExtend() *cobra.Command {
	var until, long string
	cmd := &cobra.Command{Use: "extend SITE ADDRESS", Short: "Have the lease of an address end at another time", Args: cobra.ExactArgs(2),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			now := time.Now()
			end, err := whenEnds(now, until, long)
			if err != nil {
				return usageError{err}
			}
			got, err := a.ExtendAddress(ctx, args[0], leasedAs(args[1]), end, now)
			return s.leased(got, err)
		})}
	cmd.Flags().StringVar(&until, "until", "", "when it ends (RFC 3339, or a day)")
	cmd.Flags().StringVar(&long, "for", "", "or how long from now, such as 30d")
	return cmd
}

func (s *shared) leaseAddressReturn() *cobra.Command {
	return &cobra.Command{Use: "return SITE ADDRESS", Short: "Have a leased address be free again", Args: cobra.ExactArgs(2),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			value := leasedAs(args[1])
			if err := a.ReturnAddress(ctx, args[0], value); err != nil {
				return err
			}
			if s.json {
				return addressReturnedValue.print(s, addressReturned{args[0], value})
			}
			fmt.Fprintf(s.out, "%s at %s is free again\n", printable.Clean(value), printable.Clean(args[0]))
			return nil
		})}
}
