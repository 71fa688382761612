package cli

import (
	"context"

	"github.com/spf13/cobra"

	"andamio/internal/core/fault"
	"andamio/internal/service/templates"
)

// place is where a template is: the argument, and the repository it may be in.
type place struct{ repo, rev string }

func (p *place) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&p.repo, "repo", "", "version-control repository that the template is in: a folder or a URL")
	cmd.Flags().StringVar(&p.rev, "rev", "", "branch, tag or commit of the repository (default: its head)")
}

// templateArg accepts one template, which may be left out where a repository is named.
func (p *place) templateArg(_ *cobra.Command, args []string) error {
	switch {
	case len(args) > 1:
		return fault.Invalidf("one template at a time")
	case len(args) == 0 && p.repo == "":
		return fault.Invalidf("name a template: a file, a folder, an archive, or a repository with --repo")
	case p.rev != "" && p.repo == "":
		return fault.Invalidf("--rev is a revision of a repository: name it with --repo")
	}
	return nil
}

func (p *place) of(args []string) templates.Place {
	out := templates.Place{Repo: p.repo, Rev: p.rev}
	if len(args) > 0 {
		out.Path = args[0]
	}
	return out
}

func (s *shared) template(ctx context.Context, p *place, args []string) (*templates.Template, error) {
	at := p.of(args)
	at.Sent = s.visit != nil && at.Repo == ""
	return templates.OpenTemplate(ctx, at)
}

// placeOf is where the template is that a word names; that of the deployment where there is no word.
func (s *shared) placeOf(words []string) templates.Place {
	if len(words) == 0 {
		return templates.Place{}
	}
	return templates.Place{Path: words[0], Sent: s.visit != nil}
}
