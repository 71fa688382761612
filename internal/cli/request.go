package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/decide"
	"andamio/internal/core/fault"
	"andamio/internal/core/offer"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/service/requests"
)

func (s *shared) request() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "request",
		Short: "List what was asked for, and ask for what is offered",
		Long: `A request is checked before anybody sees it, decided by rule or by whom the rules ask, and built at the price that was agreed (see
docs/requests.md). Each sees their own and their team's; whoever decides, what they may decide.`,
		Args: cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error { return s.listRequests(ctx, a) }),
	}
	cmd.AddCommand(s.requestAsk(), s.requestAgain(), s.requestChange(), s.requestShow(), s.requestSay(),
		s.requestAct("withdraw", "Withdraw a request of which nothing was built", func(ctx context.Context, a *app.App, id int64, words string) (requests.Request, error) {
			return a.TakeBack(ctx, id, words)
		}),
		s.requestAct("accept", "Have a request built that costs more than was agreed", func(ctx context.Context, a *app.App, id int64, _ string) (requests.Request, error) {
			return a.AcceptPrice(ctx, id)
		}),
		s.requestTurn("stop", requests.Stop, "Switch off what was built of a request of yours"),
		s.requestTurn("start", requests.Begin, "Switch on again what was built of a request of yours"),
		s.requestTurn("give-back", requests.GiveBack, "Take away what was built of a request of yours, with what is on it"))
	return cmd
}

// ofRequest is a command about one request.
func (s *shared) ofRequest(name, short string, do func(ctx context.Context, a *app.App, id int64) error) *cobra.Command {
	return &cobra.Command{
		Use:   name + " REQUEST",
		Short: short,
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			id, err := requestID(args[0])
			if err != nil {
				return err
			}
			return do(ctx, a, id)
		}),
	}
}

// requestTurn is a command that does something to what one has: its plan is shown first.
func (s *shared) requestTurn(name string, t requests.Turn, short string) *cobra.Command {
	var o running
	cmd := s.ofRequest(name, short, func(ctx context.Context, a *app.App, id int64) error {
		v, err := a.Request(ctx, id)
		if err != nil {
			return err
		}
		order, err := a.Turning(ctx, id, t)
		if err != nil {
			return err
		}
		if s.json && o.confirm == "" {
			return errors.Join(errNo, turnValue.print(s, wouldTurn{order.Plan, order.Plan.Losses()}))
		}
		if !s.json {
			s.printTurn(t, v.Name, order.Plan)
		}
		if err := s.confirmed(v.Name, &o); err != nil {
			return err
		}
		began, err := a.TurnIt(ctx, id, t)
		switch {
		case err != nil:
			return err
		case s.json:
			return begunValue.print(s, begun{Run: began})
		}
		fmt.Fprintf(s.out, "run %d began\n", began)
		if o.detach {
			return nil
		}
		return s.followTurn(ctx, a, id, began)
	})
	cmd.Flags().BoolVar(&o.detach, "detach", false, "return at once with the run's number")
	cmd.Flags().StringVar(&o.confirm, "confirm", "", "what it is called, which says that what is shown is to be done")
	return cmd
}

// followTurn waits until a run of what somebody has is over: they may see no more of it than that.
func (s *shared) followTurn(ctx context.Context, a *app.App, request, id int64) error {
	for {
		now, err := a.Turned(ctx, request, id)
		if err != nil {
			return err
		}
		if now != run.Planned && now != run.UnderWay {
			fmt.Fprintf(s.out, "run %d: %s\n", id, now)
			if now != run.Standing && now != run.Retired {
				return errNo
			}
			return nil
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// printTurn says what is done to what one has, and what of it goes.
func (s *shared) printTurn(t requests.Turn, name string, p *plan.Plan) {
	fmt.Fprintf(s.out, "%s %s: %s, about %s\n", t, printable.Clean(name), printable.Count(len(p.Steps), "step"), time.Duration(p.Seconds*float64(time.Second)).Round(time.Second))
	for _, l := range p.Losses() {
		fmt.Fprintln(s.out, printable.Clean(l.String()))
	}
}

func (s *shared) listRequests(ctx context.Context, a *app.App) error {
	all, err := a.Requests(ctx)
	if err != nil {
		return err
	}
	if s.json {
		return requestsValue.print(s, all)
	}
	if len(all) == 0 {
		fmt.Fprintln(s.out, "nothing was asked for")
		return nil
	}
	now := time.Now()
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	fmt.Fprintln(w, "REQUEST\tBY\tFOR\tWHAT\tCALLED\tSTAGE\tSINCE\tWAITS FOR")
	for i := range all {
		v := &all[i]
		fmt.Fprintf(w, "%d\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n", v.ID, orDash(v.Person), orDash(v.Owner.Team), printable.Clean(v.Title), printable.Clean(v.Name), stageOf(*v), ago(now, v.Since), printable.Clean(v.Waits))
	}
	return w.Flush()
}

// ago says how long something is ago, in the largest unit that says anything.
func ago(now, at time.Time) string {
	d := now.Sub(at)
	switch {
	case d < time.Minute:
		return d.Round(time.Second).String()
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// asking are the options of whoever asks.
type asking struct {
	answers   []string
	why       string
	yes, wait bool
}

func (o *asking) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringArrayVarP(&o.answers, "answer", "a", nil, "an answer, INPUT=VALUE; what is not answered is as usual, and INPUT= is not answered")
	f.StringVar(&o.why, "why", "", "words for whoever decides")
	f.BoolVar(&o.yes, "yes", false, "ask without showing it first")
	f.BoolVar(&o.wait, "wait", false, "wait until it serves, has failed or is refused")
}

// over are answers with others in their place; an empty one is none.
func (o *asking) over(answers offer.Answers) (offer.Answers, error) {
	given, err := answersOf(o.answers)
	if err != nil {
		return nil, err
	}
	out := maps.Clone(answers)
	if out == nil {
		out = offer.Answers{}
	}
	for input, value := range given {
		if out[input] = value; value == "" {
			delete(out, input)
		}
	}
	return out, nil
}

func (s *shared) requestAgain() *cobra.Command {
	var o asking
	cmd := s.ofRequest("again", "Ask once more for what a request asked for, with its answers and others", func(ctx context.Context, a *app.App, id int64) error {
		asked, err := a.Again(ctx, id)
		if err != nil {
			return err
		}
		asked.Why = o.why
		if asked.Answers, err = o.over(asked.Answers); err != nil {
			return err
		}
		return s.ask(ctx, a, asked, &o)
	})
	o.flags(cmd)
	return cmd
}

func (s *shared) requestChange() *cobra.Command {
	var o asking
	cmd := s.ofRequest("change", "Give a request that nobody has decided yet other answers: it keeps its place, and is decided anew", func(ctx context.Context, a *app.App, id int64) error {
		v, err := a.Request(ctx, id)
		if err != nil {
			return err
		}
		asked := requests.Asked{Offer: v.Offer, Why: o.why, Instead: id}
		if asked.Answers, err = o.over(v.Answers); err != nil {
			return err
		}
		return s.ask(ctx, a, asked, &o)
	})
	o.flags(cmd)
	return cmd
}

func (s *shared) requestAsk() *cobra.Command {
	var asked requests.Asked
	var o asking
	cmd := &cobra.Command{
		Use:   "ask OFFER",
		Short: "Ask for an offer: its price and place are shown before",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			asked.Offer = args[0]
			var err error
			if asked.Answers, err = o.over(nil); err != nil {
				return err
			}
			asked.Why = o.why
			return s.ask(ctx, a, asked, &o)
		}),
	}
	o.flags(cmd)
	f := cmd.Flags()
	f.StringVar(&asked.Team, "team", "", "the team that it is for, of whoever is in several")
	f.StringVar(&asked.Name, "name", "", "what it is to be called, instead of as the offer says")
	return cmd
}

// ask shows what answers come to, and asks for it once that is meant: with a request of its own, or in the place of another's answers.
func (s *shared) ask(ctx context.Context, a *app.App, asked requests.Asked, o *asking) error {
	if !o.yes {
		f, err := a.Foresee(ctx, asked)
		if err != nil {
			return err
		}
		s.writeQuote(f.Quote)
		if len(f.Quote.Wrong) == 0 && f.Quote.Cannot == "" {
			s.writeOutlook(f)
			fmt.Fprint(s.out, "\nask for it? type yes: ")
			if line, _ := bufio.NewReader(s.in).ReadString('\n'); strings.TrimSpace(line) != "yes" {
				return unconfirmed("nothing was asked for; --yes asks without showing it first")
			}
		}
	}
	r, err := a.AskFor(ctx, asked)
	if err != nil {
		return err
	}
	return s.followRequest(ctx, a, r.ID, o.wait)
}

// writeOutlook says what becomes of something that is asked for, and what is left of quotas then.
func (s *shared) writeOutlook(f *requests.Foreseen) {
	fmt.Fprintf(s.out, "it is called %s. %s\n", printable.Clean(f.Name), printable.Clean(f.Decision.Say))
	if k := f.Quote.Kept; k != nil {
		fmt.Fprintln(s.out, printable.Clean(k.Says(f.Quote.Currency, f.Quote.Hidden)))
	}
	if f.Lease != nil {
		fmt.Fprintln(s.out, f.Lease.Words())
	}
	for _, u := range f.Left {
		fmt.Fprintf(s.out, "  of the quota %s, %s are left after it\n", printable.Clean(u.Account), printable.Clean(u.Measure.Says(u.Free(), f.Quote.Currency)))
	}
	if f.Over != "" {
		fmt.Fprintln(s.out, printable.Clean(f.Over))
	}
}

// followRequest says how far a request is; with wait, until it goes no further by itself.
func (s *shared) followRequest(ctx context.Context, a *app.App, id int64, wait bool) error {
	for {
		v, err := a.Request(ctx, id)
		if err != nil {
			return err
		}
		over := v.Stage != requests.StageBuilding && v.Stage != requests.StageApproved
		if over || !wait {
			return s.printRequest(v)
		}
		select {
		case <-time.After(200 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// stageOf is what a request has come to: what serves and is switched off is said to be that.
func stageOf(v requests.View) string {
	if v.Off {
		return "switched off"
	}
	return v.Stage
}

func (s *shared) printRequest(v requests.View) error {
	if s.json {
		return requestValue.print(s, v)
	}
	line := fmt.Sprintf("request %d, %s called %s: %s", v.ID, printable.Clean(v.Title), printable.Clean(v.Name), stageOf(v))
	if v.Waits != "" {
		line += ", waits for " + printable.Clean(v.Waits)
	}
	if d := v.Decision; d.Say != "" && (v.Waits != "" || d.Then != decide.Ask) {
		line += fmt.Sprintf(" (%s)", printable.Clean(d.Say))
	}
	fmt.Fprintln(s.out, line)
	if v.Stage == requests.StageRefused || v.Stage == requests.StageFailed {
		return errNo
	}
	return nil
}

func requestID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id <= 0 {
		return 0, usageError{fmt.Errorf("%q is no number of a request", text)}
	}
	return id, nil
}

func (s *shared) requestShow() *cobra.Command {
	return s.ofRequest("show", "Show a request: what it would do, and what was done and said about it", func(ctx context.Context, a *app.App, id int64) error {
		v, err := a.Request(ctx, id)
		if err != nil {
			return err
		}
		thread, err := a.Thread(ctx, id)
		if err != nil {
			return err
		}
		have, err := a.Have(ctx, id, time.Now())
		if err != nil {
			return err
		}
		if s.json {
			return requestShownValue.print(s, requestShown{v, thread, have})
		}
		_ = s.printRequest(v)
		if have != nil && have.Level != "" {
			fmt.Fprintf(s.out, "it is kept at the service level %s\n", printable.Clean(have.Level))
		}
		if have != nil && have.Ends != nil {
			fmt.Fprintf(s.out, "it ends %s; andamio lease extend %d has it end later, %s\n", have.Ends.Local().Format("2006-01-02 15:04"), v.Deployment, printable.Count(have.Extensions, "more time"))
		}
		if have != nil && !have.Hidden {
			fmt.Fprintf(s.out, "it is %s, costs %.3f %s/h now, and has cost %.2f %s\n", have.Word, have.PerHour, printable.Clean(have.Currency), have.Cost, printable.Clean(have.Currency))
		}
		for _, e := range thread {
			who := e.By.Name
			if e.Rule != "" {
				who = "rule " + e.Rule
			}
			fmt.Fprintf(s.out, "  %s  %-16s %-12s %s\n", e.At.Local().Format("2006-01-02 15:04:05"), orDash(printable.Clean(who)), e.Stage, printable.Clean(e.Text))
		}
		if v.Waits == "" || !v.Mine {
			return nil
		}
		return s.printEffect(ctx, a, v.Request)
	})
}

// printEffect says what a yes would do.
func (s *shared) printEffect(ctx context.Context, a *app.App, r requests.Request) error {
	e, err := a.EffectOf(ctx, r)
	if err != nil {
		return err
	}
	fmt.Fprintln(s.out, "\na yes builds:")
	s.writeQuote(e.Quote)
	if e.Dearer {
		fmt.Fprintln(s.out, "that is more than was agreed: whoever asked is asked again")
	}
	for _, u := range e.Left {
		fmt.Fprintf(s.out, "  of the quota %s, %s are left with it\n", printable.Clean(u.Account), printable.Clean(u.Measure.Says(u.Free(), e.Quote.Currency)))
	}
	return nil
}

func (s *shared) requestSay() *cobra.Command {
	return &cobra.Command{
		Use:   "say REQUEST WORDS...",
		Short: "Add words to the thread of a request",
		Args:  cobra.MinimumNArgs(2),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			id, err := requestID(args[0])
			if err != nil {
				return err
			}
			return a.SayOf(ctx, id, strings.Join(args[1:], " "))
		}),
	}
}

func (s *shared) requestAct(name, short string, do func(ctx context.Context, a *app.App, id int64, words string) (requests.Request, error)) *cobra.Command {
	var words string
	cmd := s.ofRequest(name, short, func(ctx context.Context, a *app.App, id int64) error {
		if _, err := do(ctx, a, id, words); err != nil {
			return err
		}
		return s.followRequest(ctx, a, id, false)
	})
	cmd.Flags().StringVar(&words, "say", "", "words for the thread")
	return cmd
}

func (s *shared) decide() *cobra.Command {
	var yes, no bool
	var words string
	cmd := &cobra.Command{
		Use:   "decide [REQUEST...]",
		Short: "List the requests that wait for you, and decide them, one or many",
		Long: `Without a request those that you can decide are listed with what a yes would do. --yes approves all that are named, --no refuses them,
which takes words. What is approved is built.`,
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			switch {
			case yes == no && len(args) > 0:
				return usageError{fmt.Errorf("say --yes or --no")}
			case len(args) == 0 && (yes || no):
				return usageError{fmt.Errorf("name the requests: andamio decide lists those that wait for you")}
			case len(args) == 0:
				return s.listMine(ctx, a)
			}
			return s.decideAll(ctx, a, args, yes, words)
		}),
	}
	f := cmd.Flags()
	f.BoolVar(&yes, "yes", false, "approve")
	f.BoolVar(&no, "no", false, "refuse")
	f.StringVar(&words, "say", "", "words for whoever asked")
	cmd.AddCommand(s.decideRules())
	return cmd
}

func (s *shared) listMine(ctx context.Context, a *app.App) error {
	all, err := a.Requests(ctx)
	if err != nil {
		return err
	}
	mine := []requests.View{}
	for _, v := range all {
		if v.Mine {
			mine = append(mine, v)
		}
	}
	if s.json {
		return requestsValue.print(s, mine)
	}
	if len(mine) == 0 {
		fmt.Fprintln(s.out, "nothing waits for you")
	}
	for _, v := range mine {
		if err := s.printRequest(v); err != nil {
			return err
		}
		if v.Why != "" {
			fmt.Fprintf(s.out, "%s: %s\n", v.Person, printable.Clean(v.Why))
		}
		if err := s.printEffect(ctx, a, v.Request); err != nil {
			return err
		}
		fmt.Fprintln(s.out)
	}
	return nil
}

func (s *shared) decideAll(ctx context.Context, a *app.App, args []string, yes bool, words string) error {
	var failed error
	for _, text := range args {
		id, err := requestID(text)
		if err != nil {
			return err
		}
		if _, err := a.Answer(ctx, id, yes, words); err != nil {
			if len(args) == 1 {
				return err
			}
			fmt.Fprintf(s.out, "request %d: %s\n", id, printable.Clean(err.Error()))
			failed = fault.As(fault.CodeOf(err), fmt.Errorf("not all of them were decided"))
			continue
		}
		v, err := a.Request(ctx, id)
		if err != nil {
			return err
		}
		if err := s.printRequest(v); err != nil && yes {
			return err
		}
	}
	return failed
}

func (s *shared) decideRules() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "rules",
		Short: "List the rules that decide requests, with what each decided lately",
		Args:  cobra.NoArgs,
		RunE: s.with(func(ctx context.Context, a *app.App, _ []string) error {
			all, err := a.Rulings(ctx, time.Now())
			if err != nil {
				return err
			}
			if s.json {
				return rulesValue.print(s, all)
			}
			if len(all) == 0 {
				fmt.Fprintln(s.out, "there are no rules: every request waits for somebody who may approve")
				return nil
			}
			w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
			for _, r := range all {
				fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\n", printable.Clean(r.Name), r.Then, orDash(strings.Join(r.Ask, ", ")), printable.Clean(r.Say), r.Decided())
			}
			return w.Flush()
		}),
	}
	cmd.AddCommand(&cobra.Command{
		Use:   "set FILE",
		Short: "Keep rules of approval",
		Args:  cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			f, err := a.SetApprovals(ctx, text)
			if err != nil {
				return named(args[0], err)
			}
			fmt.Fprintf(s.out, "kept: %s; they decide from the next request on\n", printable.Count(len(f.Rules), "rule"))
			return nil
		}),
	})
	return cmd
}
