package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/inventory"
	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/core/settling"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/runs"
	"andamio/internal/service/workspace"
)

// reconciling are the options of reconcile.
type reconciling struct {
	declared, recorded, observed string
	pick                         settling.Pick
	settle, reason, until        string
	confirm                      bool
	name                         string
	undo                         int64
	rules                        bool
	running                      running
	propose                      bool
	holds                        time.Duration
}

func (s *shared) reconcile() *cobra.Command {
	var o reconciling
	cmd := &cobra.Command{
		Use:   "reconcile",
		Short: "Show where declared, recorded and observed disagree, and settle it",
		Long: `Compares what the deployments declare, what the inventory records and what the last surveys observed, and lists the
findings, the gravest first, each with how it can be settled. With --declared, --recorded and --observed it compares files
instead: tables (CSV) or JSON Lines as andamio records export writes them, and what is declared may be a plan.

With --settle the findings picked by --type, --class, --site, --attribute, --name or --finding are settled in that way:
adopt, correct-record, correct-site, retire, same, apart or ignore (with --reason, and --until). What that would do is
shown; --yes does it, or, where data goes with it, --confirm and the name of what loses it. An act is undone by its number with --undo. Patterns may have * and ?. With --rules the standing
rules in settling.yaml of the workspace are applied, as they are after every survey.

The exit status is 1 if there are findings.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			switch {
			case o.declared+o.recorded+o.observed != "":
				return s.reconcileFiles(a, &o)
			case o.undo != 0:
				return s.undo(ctx, a, &o)
			case o.rules:
				return s.byRules(ctx, a)
			case o.settle != "":
				return s.settle(ctx, a, &o)
			}
			inv, err := a.Reconcile(ctx)
			if err != nil {
				return err
			}
			return errors.Join(s.unwell(ctx, a), s.printInventory(inv.Report, o.pick))
		}),
	}
	f := cmd.Flags()
	f.StringVar(&o.declared, "declared", "", "file of what is declared")
	f.StringVar(&o.recorded, "recorded", "", "file of what is recorded")
	f.StringVar(&o.observed, "observed", "", "file of what is observed")
	f.StringVar(&o.pick.Finding, "finding", "", "only this finding")
	oneOf(f, &o.pick.Type, "type", "", "only findings of this type: "+strings.Join(words(inventory.Types), ", "), words(inventory.Types)...)
	f.StringVar(&o.pick.Class, "class", "", "only findings on this class")
	f.StringVar(&o.pick.Site, "site", "", "only findings at this site")
	f.StringVar(&o.pick.Attribute, "attribute", "", "only findings that differ in this attribute, such as 'tag.*'")
	f.StringVar(&o.pick.Name, "name", "", "only findings on things of this name")
	oneOf(f, &o.settle, "settle", "", "settle them in this way: "+strings.Join(words(inventory.Ways), ", "), words(inventory.Ways)...)
	f.StringVar(&o.reason, "reason", "", "why they are ignored")
	f.StringVar(&o.until, "until", "", "until when they are ignored, as 2027-01-31")
	f.BoolVar(&o.confirm, "yes", false, "do what is shown")
	f.BoolVar(&o.propose, "propose", false, "do nothing: keep what is shown for somebody to confirm")
	f.DurationVar(&o.holds, "holds", runs.ProposalHolds, "with --propose: for how long it can be confirmed")
	f.StringVar(&o.name, "confirm", "", "do what is shown, though data goes: the name of what loses it")
	f.BoolVar(&o.rules, "rules", false, "settle by the standing rules")
	f.Int64Var(&o.undo, "undo", 0, "undo the act of this number")
	return cmd
}

func (s *shared) reconcileFiles(a *app.App, o *reconciling) error {
	r, err := a.ReconcileFiles(o.declared, o.recorded, o.observed)
	if err != nil {
		return err
	}
	return s.printInventory(r, o.pick)
}

// brief is a finding without the records that it is about.
type brief struct {
	ID          string                 `json:"id"`
	Type        inventory.Type         `json:"type"`
	Class       kinds.Kind             `json:"class"`
	Name        string                 `json:"name"`
	Site        string                 `json:"site"`
	Record      string                 `json:"record,omitempty"`
	Provider    string                 `json:"provider_id,omitempty"`
	Differences []inventory.Difference `json:"differences,omitempty"`
	Match       inventory.Match        `json:"match,omitzero"`
	Review      bool                   `json:"review,omitempty"`
	Carries     []string               `json:"carries,omitempty"`
	Cost        money.Amount           `json:"cost_per_hour,omitempty"`
	Endangers   []string               `json:"endangers,omitempty"`
	Rank        float64                `json:"rank"`
	Why         []string               `json:"why"`
	Ways        []inventory.Way        `json:"ways"`
}

func briefOf(f *inventory.Finding) brief {
	b := brief{ID: f.ID, Type: f.Type, Class: f.Class, Name: f.Name, Site: f.Site, Differences: f.Differences, Match: f.Match, Review: f.Review,
		Carries: f.Carries, Cost: f.CostPerHour, Endangers: f.Endangers, Rank: f.Rank, Why: f.Why, Ways: f.Ways}
	if f.Recorded != nil {
		b.Record = f.Recorded.ID
	}
	if f.Observed != nil {
		b.Provider = f.Observed.Provider
	}
	return b
}

// printReport prints findings; the answer is no if there are any.
func (s *shared) printInventory(r *inventory.Report, pick settling.Pick) error {
	var err error
	if s.json {
		err = s.printFindings(r, pick)
	} else {
		s.listFindings(r, pick)
	}
	if err == nil && len(r.Findings) > 0 {
		return errNo
	}
	return err
}

// unwell says of deployments that did not end well that they did not: that nothing disagrees does not say that all is well.
func (s *shared) unwell(ctx context.Context, a *app.App) error {
	all, err := a.Deployments(ctx)
	if err != nil || s.json {
		return err
	}
	for i := range all {
		if h := all[i].Health(); h.Status == run.Failed || h.Status == run.Stopped {
			fmt.Fprintf(s.out, "%s %s; andamio resume %d goes on with its run\n", printable.Clean(h.Name), h.Word, all[i].Last().ID)
		}
	}
	return nil
}

// printFindings writes the report as one JSON value, finding by finding: there may be a great many.
func (s *shared) printFindings(r *inventory.Report, pick settling.Pick) error {
	out := bufio.NewWriterSize(s.out, 1<<16)
	fmt.Fprintf(out, "{\"declared\": %d, \"recorded\": %d, \"observed\": %d, \"agreeing\": %d, \"weighed\": %d, \"review\": %d, \"ignored\": %d, \"findings\": [",
		r.Declared, r.Recorded, r.Observed, r.Agreeing, r.Weighed, r.Review, len(r.Ignored))
	sep := "\n"
	for i := range r.Findings {
		if !pick.Takes(&r.Findings[i]) {
			continue
		}
		data, err := encodedLine(briefOf(&r.Findings[i]))
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "%s%s", sep, printable.JSON(data))
		sep = ",\n"
	}
	fmt.Fprintln(out, "\n]}")
	return out.Flush()
}

// mostListed bounds the lines for people.
const mostListed = 200

func (s *shared) listFindings(r *inventory.Report, pick settling.Pick) {
	fmt.Fprintf(s.out, "%d declared, %d recorded, %d observed: %d agree", r.Declared, r.Recorded, r.Observed, r.Agreeing)
	if len(r.Ignored) > 0 {
		fmt.Fprintf(s.out, ", %d findings are ignored", len(r.Ignored))
	}
	fmt.Fprintln(s.out)
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	shown := 0
	for i := range r.Findings {
		f := &r.Findings[i]
		if !pick.Takes(f) {
			continue
		}
		if shown++; shown > mostListed {
			continue
		}
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\n", f.Type, printable.Clean(f.Name), f.Class, printable.Clean(f.Site), printable.Clean(clause(f)), f.ID)
	}
	w.Flush()
	if shown > mostListed {
		fmt.Fprintf(s.out, "and %d more; --json prints all\n", shown-mostListed)
	}
	if shown == 0 {
		fmt.Fprintln(s.out, "nothing disagrees")
	}
}

// clause is a finding in a few words.
func clause(f *inventory.Finding) string {
	var parts []string
	for _, d := range f.Differences {
		parts = append(parts, fmt.Sprintf("%s %s → %s", d.Attribute, none(d.Right), none(d.Observed)))
	}
	if f.CostPerHour > 0 {
		parts = append(parts, fmt.Sprintf("%.3f/h", f.CostPerHour))
	}
	for _, e := range f.Endangers {
		parts = append(parts, "endangers "+e)
	}
	if len(parts) == 0 {
		parts = f.Why[:1]
	}
	return strings.Join(parts, ", ")
}

func none(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (s *shared) settle(ctx context.Context, a *app.App, o *reconciling) error {
	way := inventory.Way(o.settle)
	var until time.Time
	if o.until != "" {
		var err error
		if until, err = time.Parse("2006-01-02", o.until); err != nil {
			return usageError{fmt.Errorf("%q is no day as in 2027-01-31", o.until)}
		}
	}
	inv, err := a.Reconcile(ctx)
	if err != nil {
		return err
	}
	var choices []reconcile.Choice
	for i := range inv.Findings {
		if f := &inv.Findings[i]; o.pick.Takes(f) && f.Can(way) {
			choices = append(choices, reconcile.Choice{Finding: *f, Way: way})
		}
	}
	if len(choices) == 0 {
		return fault.Refusedf("no finding that was picked can be settled so")
	}
	would, err := a.Settling(ctx, inv, choices, o.reason, until)
	if err != nil {
		return err
	}
	if !s.json {
		s.printSettling(would)
	}
	if o.propose {
		return s.proposed(a.ProposeSettling(ctx, would, o.holds))
	}
	if err := s.agreed(would, o); err != nil {
		return err
	}
	act, runs, err := a.Settle(ctx, would)
	if err != nil {
		return err
	}
	follow := *s
	if s.json { // one value is printed, not one a run and another
		follow.out, follow.json = io.Discard, false
	}
	var failed error
	for _, id := range runs {
		if failed = follow.follow(ctx, a, id, true); failed != nil {
			break
		}
	}
	if s.json {
		return errors.Join(failed, settledValue.print(s, settled{act, runs, would.Items, failed == nil}))
	}
	if failed != nil {
		return failed
	}
	fmt.Fprintf(s.out, "act %d is done; andamio reconcile --undo %d takes it back\n", act, act)
	return nil
}

func (s *shared) byRules(ctx context.Context, a *app.App) error {
	done, err := a.SettleByRules(ctx)
	if err != nil {
		return err
	}
	if s.json {
		return ruledValue.print(s, ruled{done})
	}
	s.printRules(done)
	if len(done) == 0 {
		fmt.Fprintln(s.out, "no rule settles any finding")
	}
	return nil
}

func (s *shared) printRules(done map[string]int) {
	for _, rule := range slices.Sorted(maps.Keys(done)) {
		fmt.Fprintf(s.out, "rule %s settled %d\n", printable.Clean(rule), done[rule])
	}
}

// agreed says what is still to be given before anything is done: --yes, or the name of what loses its data.
func (s *shared) agreed(p *reconcile.Settling, o *reconciling) error {
	name := p.MustType()
	text := "nothing was done; --yes does it"
	switch {
	case name == "" && o.confirm, name != "" && o.name == name:
		return nil
	case name != "" && o.name != "":
		text = fmt.Sprintf("nothing was done; the name of what loses its data is %s, not %s", name, o.name)
	case name != "":
		text = fmt.Sprintf("nothing was done; --confirm %s does it", name)
	}
	var err error
	if s.json {
		err = settlingValue.print(s, wouldSettle{p.Items, lossesOf(p)})
	}
	return errors.Join(unconfirmed("%s", text), err)
}

func lossesOf(p *reconcile.Settling) []plan.Loss {
	out := []plan.Loss{}
	for _, x := range p.Plans() {
		out = append(out, x.Losses()...)
	}
	return out
}

func (s *shared) printSettling(p *reconcile.Settling) {
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	for _, i := range p.Items {
		fmt.Fprintf(w, "%s\t%s\t%s\n", i.Way, printable.Clean(i.Finding.Name), printable.Clean(i.Effect))
	}
	w.Flush()
	if lost := plan.Losing(p.Plans()...); lost != "" {
		fmt.Fprintln(s.out, printable.Clean(lost))
	}
	for _, o := range p.Orders {
		fmt.Fprintf(s.out, "plan: %s, %s, about %s\n", printable.Clean(o.Plan.Purpose), printable.Count(len(o.Plan.Steps), "step"), seconds(o.Plan.Seconds))
	}
}

func (s *shared) undo(ctx context.Context, a *app.App, o *reconciling) error {
	orders, err := a.Undo(ctx, o.undo)
	if err != nil {
		return err
	}
	for _, order := range orders {
		if err := s.begin(ctx, a, o.running, order); err != nil {
			return err
		}
	}
	if s.json {
		return undoneValue.print(s, undone{o.undo, len(orders)})
	}
	fmt.Fprintf(s.out, "act %d is undone\n", o.undo)
	return nil
}

func (s *shared) records() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "records",
		Short: "Export and import the inventory, and show what became of a record",
		Long: `The inventory holds a record of everything that was built, adopted or brought in, with where it came from and every change
since.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(s.recordsExport(), s.recordsImport(), s.recordsShow())
	return cmd
}

func (s *shared) recordsExport() *cobra.Command {
	return &cobra.Command{
		Use:   "export FILE",
		Short: "Write all records as a table (.csv) or as JSON Lines (.jsonl)",
		Long: `Importing what was written gives the same records again. What a program that shows tables would take for a formula is
written after an apostrophe, which importing takes away; characters that print nothing are left out.`,
		Args: exactly(1, "name the file to write"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			n, err := a.ExportRecords(ctx, args[0])
			if err != nil {
				return err
			}
			if s.json {
				return recordsWrittenValue.print(s, recordsWritten{n, args[0]})
			}
			fmt.Fprintf(s.out, "%d records written to %s\n", n, args[0])
			return nil
		}),
	}
}

func (s *shared) recordsImport() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use:   "import FILE",
		Short: "Bring records in from a table or JSON Lines",
		Long: `Records whose id is known are changed to what the file says, others are added; records that the file does not have stay.
What would change is said; --yes does it, as an act that can be undone.`,
		Args: exactly(1, "name the file to read"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			i, err := a.ImportRecords(ctx, args[0])
			if err != nil {
				return err
			}
			report := recordsRead{Added: i.Added, Changed: i.Changed, Same: i.Same}
			if !s.json {
				fmt.Fprintf(s.out, "%d records are added, %d changed, %d are the same\n", i.Added, i.Changed, i.Same)
			}
			if yes && i.Added+i.Changed > 0 {
				act, err := a.Import(ctx, i)
				if err != nil {
					return err
				}
				report.Act = act
				if !s.json {
					fmt.Fprintf(s.out, "act %d is done; andamio reconcile --undo %d takes it back\n", act, act)
				}
			}
			if s.json {
				err = recordsReadValue.print(s, report)
			}
			if !yes && i.Added+i.Changed > 0 {
				return errors.Join(unconfirmed("nothing was done; --yes does it"), err)
			}
			return err
		}),
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do it")
	return cmd
}

func (s *shared) recordsShow() *cobra.Command {
	var fragment bool
	cmd := &cobra.Command{
		Use:   "show RECORD",
		Short: "Show what became of a record, or the part of a template that declares its like",
		Long:  `A record goes by its id. With --template prints what could be put under node_templates of a template to declare its like.`,
		Args:  exactly(1, "name the record"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if fragment {
				text, err := a.Fragment(ctx, args[0])
				if err != nil {
					return err
				}
				fmt.Fprint(s.out, text)
				return nil
			}
			history, err := a.RecordHistory(ctx, args[0])
			if err != nil {
				return err
			}
			if len(history) == 0 {
				return fault.NotFoundf("there never was a record %q", args[0])
			}
			if s.json {
				return recordHistoryValue.print(s, history)
			}
			for _, c := range history {
				fmt.Fprintf(s.out, "%s  %-12s %s\n", c.At.Format("2006-01-02 15:04:05"), printable.Clean(c.Who), printable.Clean(c.Why))
			}
			return nil
		}),
	}
	cmd.Flags().BoolVar(&fragment, "template", false, "print the part of a template instead")
	return cmd
}

func (s *shared) mapping() *cobra.Command {
	var shipped bool
	var speaks string
	cmd := &cobra.Command{
		Use:   "mapping [FILE]",
		Short: "Check a mapping of provider types to records, and preview it on what was observed",
		Long: `The file mapping.yaml of the workspace says how what sites tell becomes records; its entries come before those that ship.
Checks that file, or another one, and shows what records it would make of what surveys saw last. With --shipped prints the
one that ships for sites of a --driver, to begin an own one with.`,
		Args: atMostOne,
		RunE: func(cmd *cobra.Command, args []string) error {
			if shipped {
				text, err := reconcile.ShippedMapping(speaks)
				if err != nil {
					return usageError{err}
				}
				_, err = s.out.Write(text)
				return err
			}
			a, err := s.open(cmd.Context())
			if err != nil {
				return err
			}
			defer a.Close()
			name := ""
			if len(args) == 1 {
				name = args[0]
			}
			p, err := a.PreviewMapping(cmd.Context(), name)
			if err != nil {
				return err
			}
			if s.json {
				return mappingValue.print(s, p)
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			for _, c := range p.Classes {
				fmt.Fprintf(w, "%s\t%d records\tas %s\n", c.Class, c.Count, printable.Clean(c.Example))
			}
			w.Flush()
			for _, e := range p.Errors {
				fmt.Fprintln(s.out, printable.Clean(e))
			}
			fmt.Fprintf(s.out, "%d observations, %d of them taken by no entry\n", p.Observations, p.Untaken)
			return nil
		},
	}
	cmd.Flags().BoolVar(&shipped, "shipped", false, "print the mapping that ships")
	oneOf(cmd.Flags(), &speaks, "driver", workspace.DriverNames()[0], "whose mapping that is: "+strings.Join(workspace.DriverNames(), ", "), workspace.DriverNames()...)
	return cmd
}
