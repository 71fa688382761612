package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/takeover"
	"andamio/internal/service/moves"
)

// taken adds the flags by which machines are meant that nobody deployed here.
func (o *moveOptions) taken(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringSliceVar(&o.take.Records, "record", nil, "machine that nobody deployed here, as SITE/ID or by its name; may be given again")
	f.StringVar(&o.take.Name, "name", "", "with --record: name of the deployment as which it arrives")
	f.IntSliceVar(&o.take.Ports, "port", nil, "with --record: port on which it serves, beside what was seen; may be given again")
}

// draftTaken works out the move of machines that would be taken over first.
func (s *shared) draftTaken(ctx context.Context, a *app.App, args []string, o *moveOptions) (*moves.Draft, error) {
	if len(args) > 0 {
		return nil, usageError{errors.New("name a deployment, or machines with --record, not both")}
	}
	take, err := a.TakingOver(ctx, o.take)
	if err != nil {
		return nil, err
	}
	if !s.json {
		s.printTakeover(take.Plan)
		fmt.Fprintln(s.out)
	}
	if len(o.w.What) == 0 {
		o.w.What = takeover.Machines(take.Plan) // all of them, unless it is said which
	}
	w, err := o.wish()
	if err != nil {
		return nil, err
	}
	return a.DraftTaken(ctx, take, w)
}

// takeFirst takes machines over, if some are meant, once it is known that they can be moved as is asked, and returns the deployment that they are then.
func (s *shared) takeFirst(ctx context.Context, a *app.App, args []string, o *moveOptions) ([]string, error) {
	if len(o.take.Records) == 0 {
		return args, nil
	}
	if _, err := s.draftTaken(ctx, a, args, o); err != nil {
		return nil, err
	}
	take, err := a.TakingOver(ctx, o.take)
	if err != nil {
		return nil, err
	}
	id, err := a.Begin(ctx, take)
	if err != nil {
		return nil, err
	}
	if err := s.follow(ctx, a, id, true); err != nil {
		return nil, err
	}
	r, err := a.Run(ctx, id)
	o.take.Records = nil
	return []string{strconv.FormatInt(r.Deployment, 10)}, err
}
