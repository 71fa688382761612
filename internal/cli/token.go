package cli

import (
	"context"
	"fmt"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/guard"
	"andamio/internal/core/printable"
	"andamio/internal/core/token"
	"andamio/internal/service/tokens"
)

func (s *shared) token() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "token",
		Short: "List the tokens by which programs act for you, and make, rotate and revoke them",
		Long: `Programs show a token where andamio serve --api serves them (see docs/api.md): they may what its person may, within the token's bounds. Of its secret only a digest is
kept. Who keeps the workspace sees everybody's.`,
		Args: cobra.NoArgs,
		RunE: s.with(s.listTokens),
	}
	cmd.AddCommand(s.tokenMake(), s.tokenRotate(), s.tokenRevoke(), s.tokenSignIn())
	return cmd
}

func (s *shared) listTokens(ctx context.Context, a *app.App, _ []string) error {
	all, err := a.Tokens(ctx)
	if err != nil {
		return err
	}
	if s.json {
		return tokensValue.print(s, all)
	}
	if len(all) == 0 {
		fmt.Fprintln(s.out, "there are no tokens; andamio token make NAME makes one")
	}
	w := tabwriter.NewWriter(s.out, 0, 0, 2, ' ', 0)
	now := time.Now()
	for i := range all {
		t := &all[i]
		fmt.Fprintf(w, "%s\t%s\t%s\t%s\t%s\t%s\n", t.ID, printable.Clean(t.Name), printable.Clean(t.Of), tokenState(t, now), boundsOf(t), usedWords(t))
	}
	return w.Flush()
}

// tokenState says how long a token is one.
func tokenState(t *token.Token, now time.Time) string {
	day := func(at time.Time) string { return at.Local().Format("2006-01-02 15:04") }
	switch {
	case !t.Revoked.IsZero():
		return "revoked " + day(t.Revoked)
	case t.Lasts(now) != nil:
		return "ended " + day(t.Ends)
	}
	return "until " + day(t.Ends)
}

// boundsOf says to what a token is bounded.
func boundsOf(t *token.Token) string {
	var out []string
	for _, r := range t.Limit.Rights {
		out = append(out, string(r))
	}
	if len(out) == 0 {
		out = []string{"all that they may"}
	}
	text := strings.Join(out, ", ")
	for _, x := range []struct {
		word string
		list []string
	}{{"teams", t.Limit.Teams}, {"deployments", t.Limit.Deployments}, {"sites", t.Limit.Sites}, {"services", t.Limit.Services}, {"stages", t.Limit.Stages}, {"from", t.From}} {
		if len(x.list) > 0 {
			text += "; " + x.word + " " + strings.Join(x.list, ", ")
		}
	}
	return printable.Clean(text)
}

func usedWords(t *token.Token) string {
	if t.Used.IsZero() {
		return "never used"
	}
	return fmt.Sprintf("used %s from %s", t.Used.Local().Format("2006-01-02 15:04"), printable.Clean(t.UsedFrom))
}

func (s *shared) tokenMake() *cobra.Command {
	var w tokens.Wish
	var rights []string
	cmd := &cobra.Command{
		Use:   "make NAME",
		Short: "Make a token, whose secret is told once",
		Long: `Without bounds it may what its person may, for 90 days. Each option bounds it further; names are patterns with * and ?. A program can make shorter ones from it by itself, which
end with it.`,
		Args: exactly(1, "say what the token is called, such as what uses it"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			w.Name = args[0]
			for _, r := range rights {
				w.Limit.Rights = append(w.Limit.Rights, guard.Right(r))
			}
			made, err := a.MakeToken(ctx, w, time.Now())
			if err != nil {
				return err
			}
			return s.tokenTold(made)
		}),
	}
	f := cmd.Flags()
	f.StringVar(&w.Of, "of", "", "person of the directory of teams whom it acts for (default: you)")
	f.DurationVar(&w.For, "for", token.Usual, "for how long it is one, a year at most")
	f.StringSliceVar(&rights, "right", nil, "rights that it has, of those that its person has (default: all): "+rightsWords())
	f.StringSliceVar(&w.Limit.Teams, "team", nil, "teams whose things it is for")
	f.StringSliceVar(&w.Limit.Deployments, "deployment", nil, "deployments that it is for, by name")
	f.StringSliceVar(&w.Limit.Sites, "site", nil, "sites that it is for")
	f.StringSliceVar(&w.From, "from", nil, "addresses or networks from which it may be used, such as 192.0.2.0/24")
	return cmd
}

func rightsWords() string {
	var out []string
	for _, r := range guard.Rights {
		out = append(out, string(r))
	}
	return strings.Join(out, ", ")
}

// tokenTold tells the secret of a token, once.
func (s *shared) tokenTold(made tokens.Made) error {
	if s.json {
		return tokenValue.print(s, made)
	}
	fmt.Fprintln(s.out, made.Secret)
	fmt.Fprintf(s.err, "that is token %s, %s, of %s, until %s; it is not told again\n", made.ID, printable.Clean(made.Name), printable.Clean(made.Of), made.Ends.Local().Format("2006-01-02 15:04"))
	if !made.Until.IsZero() {
		fmt.Fprintf(s.err, "the secret before it holds until %s\n", made.Until.Local().Format("2006-01-02 15:04:05"))
	}
	return nil
}

func (s *shared) tokenRotate() *cobra.Command {
	overlap := token.Overlap
	cmd := &cobra.Command{
		Use:   "rotate TOKEN",
		Short: "Give a token another secret, which is told once",
		Long:  `The secret that it has holds for the overlap, so that whoever uses it can change over; nothing else of the token changes.`,
		Args:  exactly(1, "name the token by its id, as andamio token lists it"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			made, err := a.RotateToken(ctx, args[0], overlap, time.Now())
			if err != nil {
				return err
			}
			return s.tokenTold(made)
		}),
	}
	cmd.Flags().DurationVar(&overlap, "overlap", overlap, "for how long the secret that it has holds still")
	return cmd
}

func (s *shared) tokenRevoke() *cobra.Command {
	return &cobra.Command{
		Use:   "revoke TOKEN",
		Short: "Have a token be none any more, with those that were made by it",
		Long:  `Requests with it are refused from then on, and whoever follows events with it is let go within two seconds.`,
		Args:  exactly(1, "name the token by its id, as andamio token lists it"),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if err := a.RevokeToken(ctx, args[0], time.Now()); err != nil {
				return err
			}
			if s.json {
				return revokedValue.print(s, revoked{args[0]})
			}
			fmt.Fprintf(s.out, "token %s is none any more\n", printable.Clean(args[0]))
			return nil
		}),
	}
}
