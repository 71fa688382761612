package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/offer"
	"andamio/internal/core/printable"
	"andamio/internal/service/offers"
)

func (s *shared) offer() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "offer",
		Short: "List what may be asked for, and make offers of templates",
		Long: `An offer is a template with choices left, made available to an audience (see docs/offers.md). It is one file; what is published is
the offer with its template as it is then.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error { return s.listOffers(ctx, a) }),
	}
	cmd.AddCommand(s.offerMake(), s.offerCheck(), s.offerPublish(), s.offerShow(), s.offerQuote(), s.offerWithdraw())
	return cmd
}

func (s *shared) listOffers(ctx context.Context, a *app.App) error {
	all, err := a.Offers(ctx)
	if err != nil {
		return err
	}
	if s.json {
		return offersValue.print(s, all)
	}
	if len(all) == 0 {
		fmt.Fprintln(s.out, "nothing is offered")
		return nil
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "OFFER\tTITLE\tCATEGORY\tVERSION\tSTATE\tFOR")
	for _, o := range all {
		fmt.Fprintf(w, "%s\t%s\t%s\t%d\t%s\t%s\n", o.Name, printable.Clean(o.Title), orDash(printable.Clean(o.Category)), o.Number, o.State, audience(o.Audience))
	}
	return w.Flush()
}

func audience(who []string) string {
	if len(who) == 0 {
		return "everybody"
	}
	return strings.Join(who, ", ")
}

func (s *shared) offerCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Say what is wrong with an offer, and work out what may be answered",
		Long: `Every set of answers is worked out where there are few, else a sample of them with the ends of every question; how many is said.
The status is 1 if some of them cannot be had.`,
		Args: cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			r, err := a.CheckOffer(ctx, text, filepath.Dir(args[0]))
			if err != nil {
				return named(args[0], err)
			}
			return s.printTried(r)
		}),
	}
}

func (s *shared) offerMake() *cobra.Command {
	var o planOptions
	cmd := &cobra.Command{
		Use:   "make OFFER TEMPLATE",
		Short: "Make an offer of a template that works, as a beginning, and check it",
		Long: `Writes an offer's file beside the template, or into the workspace where that is no folder: the inputs that are given are fixed, what the template
bounds is asked for, and it is for whoever makes it alone. The file is to be changed then; publishing it takes andamio offer publish.`,
		Args: cobra.ExactArgs(2),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			t, err := s.template(ctx, &o.place, args[1:])
			if err != nil {
				return err
			}
			inputs, diags, err := o.readInputs()
			if err != nil {
				return err
			}
			if diags.Errors() > 0 {
				s.printDiagnostics(t, diags)
				return errNo
			}
			if err := noSecrets(t, o.set); err != nil {
				return err
			}
			f, err := a.OfferThis(ctx, args[0], t, o.preset, inputs, a.Opened().Dir)
			if err != nil {
				return err
			}
			if !s.json {
				fmt.Fprintln(s.out, "written:", f.Path)
			}
			return s.printTried(f.Report)
		}),
	}
	cmd.Flags().StringVar(&o.preset, "preset", "", "inputs of this preset of the template")
	cmd.Flags().StringVar(&o.inputs, "inputs", "", "YAML file with inputs that are fixed")
	cmd.Flags().StringArrayVar(&o.set, "input", nil, "one input that is fixed, NAME=VALUE; may be repeated")
	o.place.flags(cmd)
	return cmd
}

// named is an error with the file that it is about.
func named(file string, err error) error {
	return fault.As(fault.CodeOf(err), fmt.Errorf("%s: %w", file, err))
}

func (s *shared) printTried(r *offers.Report) error {
	if s.json {
		if err := offerTriedValue.print(s, r); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(s.out, "%s: %s\n", r.Offer.Name, r.Says())
		if r.Most > 0 {
			fmt.Fprintf(s.out, "from %.3f to %.3f %s/h\n", r.Least, r.Most, r.Currency)
		}
		for _, d := range r.Doubts {
			fmt.Fprintln(s.out, "doubt:", printable.Clean(d))
		}
		for _, c := range r.Changes {
			fmt.Fprintln(s.out, "change:", printable.Clean(c))
		}
		for i, f := range r.Failed {
			if i == mostFailed {
				fmt.Fprintf(s.out, "and %d more cannot be had\n", len(r.Failed)-i)
				break
			}
			fmt.Fprintf(s.out, "cannot be had: %s: %s\n", printable.Clean(offers.Said(f.Answers)), printable.Clean(f.Why))
		}
	}
	if len(r.Failed) > 0 {
		return errNo
	}
	return nil
}

// mostFailed is how many answers that cannot be had are listed.
const mostFailed = 8

func (s *shared) offerPublish() *cobra.Command {
	return &cobra.Command{
		Use:   "publish FILE",
		Short: "Check an offer and make it available to its audience, in the place of the version before",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			o, r, err := a.Publish(ctx, text, filepath.Dir(args[0]))
			if err != nil {
				return named(args[0], err)
			}
			if s.json {
				return offerValue.print(s, o)
			}
			if err := s.printTried(r); err != nil {
				return err
			}
			fmt.Fprintf(s.out, "version %d of %s is offered to %s\n", o.Number, o.Name, audience(o.Audience))
			return nil
		}),
	}
}

func (s *shared) offerShow() *cobra.Command {
	var number int64
	cmd := &cobra.Command{
		Use:   "show OFFER",
		Short: "Show an offer: its questions, and the answers that there are",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			o, err := a.Offer(ctx, args[0], number)
			if err != nil {
				return err
			}
			if s.json {
				return offerValue.print(s, o)
			}
			fmt.Fprintf(s.out, "%s (%s, version %d, %s)\n", printable.Clean(o.Title), o.Name, o.Number, o.State)
			if o.Note != "" {
				fmt.Fprintln(s.out, printable.Clean(o.Note))
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			for _, q := range o.Asked() {
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\n", q.Input, printable.Clean(q.Ask), printable.Clean(q.Says()), usually(&q))
			}
			return w.Flush()
		}),
	}
	cmd.Flags().Int64Var(&number, "version", 0, "this version instead of the newest")
	return cmd
}

// usually says what an answer is that nobody gives.
func usually(q *offer.Question) string {
	var out []string
	if q.Default != nil {
		out = append(out, "usually "+printable.Clean(offer.Written(q.Default)))
	}
	if q.More {
		out = append(out, "more")
	}
	return strings.Join(out, ", ")
}

func (s *shared) offerQuote() *cobra.Command {
	var answers []string
	cmd := &cobra.Command{
		Use:   "quote OFFER",
		Short: "Say what answers would give: where it would stand, of what size, at what price",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			o, err := a.Offer(ctx, args[0], 0)
			if err != nil {
				return err
			}
			given, err := answersOf(answers)
			if err != nil {
				return err
			}
			q, err := a.Quote(ctx, o, given, "", true)
			if err != nil {
				return err
			}
			return s.printQuote(q)
		}),
	}
	cmd.Flags().StringArrayVarP(&answers, "answer", "a", nil, "an answer, INPUT=VALUE; what is not answered is as usual")
	return cmd
}

func answersOf(pairs []string) (offer.Answers, error) {
	out := offer.Answers{}
	for _, p := range pairs {
		name, v, ok := strings.Cut(p, "=")
		if !ok {
			return nil, usageError{fmt.Errorf("%q is no answer: INPUT=VALUE was expected", p)}
		}
		out[strings.TrimSpace(name)] = v
	}
	return out, nil
}

func (s *shared) printQuote(q *offers.Quote) error {
	if s.json {
		if err := quoteValue.print(s, q); err != nil {
			return err
		}
	} else {
		s.writeQuote(q)
	}
	if len(q.Wrong) > 0 || q.Cannot != "" {
		return errNo
	}
	return nil
}

func (s *shared) writeQuote(q *offers.Quote) {
	for _, x := range q.Wrong {
		fmt.Fprintf(s.out, "%s: %s\n", printable.Clean(x.Input), printable.Clean(x.Why))
	}
	if q.Cannot != "" {
		fmt.Fprintln(s.out, "it cannot be had:", printable.Clean(q.Cannot))
	}
	if len(q.Places) > 0 {
		var at []string
		for _, p := range q.Places {
			at = append(at, fmt.Sprintf("%s (%d)", p.Site, p.Instances))
		}
		fmt.Fprintf(s.out, "%s, at %s\n", q.Size.Says(), strings.Join(at, ", "))
		fmt.Fprintf(s.out, "it serves after about %s\n", took(q.Seconds))
		if !q.Hidden {
			fmt.Fprintf(s.out, "%.3f %s/h, %.2f %s a month\n", q.PerHour, q.Currency, q.PerMonth, q.Currency)
		}
	}
	if len(q.Sites) < 2 {
		return
	}
	fmt.Fprintln(s.out, "\nall of it at one site:")
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for _, x := range q.Sites {
		switch {
		case x.Cannot != "":
			fmt.Fprintf(w, "  %s\t–\t%s\n", x.Site, printable.Clean(firstLine(x.Cannot)))
		case q.Hidden:
			fmt.Fprintf(w, "  %s\t\t\n", x.Site)
		default:
			fmt.Fprintf(w, "  %s\t%.3f %s/h\t\n", x.Site, x.PerHour, q.Currency)
		}
	}
	_ = w.Flush()
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

func (s *shared) offerWithdraw() *cobra.Command {
	return &cobra.Command{
		Use:   "withdraw OFFER",
		Short: "Have nobody ask for an offer any more; what was made of it stays",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if err := a.WithdrawOffer(ctx, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(s.out, "%s is offered no more\n", args[0])
			return nil
		}),
	}
}

// took is a time as people say it: seconds, and less where it is less.
func took(seconds float64) time.Duration {
	d := time.Duration(seconds * float64(time.Second))
	if d < time.Second {
		return d.Round(10 * time.Millisecond)
	}
	return d.Round(time.Second)
}
