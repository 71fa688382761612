package crash

import (
	"fmt"
	"strconv"

	"andamio/internal/core/change"
	"andamio/internal/service/moves"
)

// theMoved is the instance of the team's deployment that is moved about: it is there at every size.
const theMoved = "forecast-host-1"

// move moves an instance to another site, at the word of one machine, and ends the move for good or goes back from it, at that of another.
func (m *team) move() error {
	ctx := m.t.Context()
	d, err := m.a.FindDeployment(ctx, deploymentOfTeam)
	if err != nil {
		return err
	}
	stands, err := m.a.Standing(ctx, d.ID)
	if err != nil {
		return err
	}
	e, err := m.a.Estate(ctx)
	if err != nil {
		return err
	}
	from := stands.Plan.Resource(theMoved).Site
	var why error
	for _, i := range m.r.Perm(len(e.Sites)) {
		to := e.Sites[i].Name
		if to == from {
			continue
		}
		request := moves.Request{What: []string{theMoved}, To: to, Mode: []change.Mode{change.Cold, change.Warm}[m.r.IntN(2)], AtOnce: true}
		if _, why = m.a.DraftMove(ctx, d.ID, request); why != nil {
			continue // there is no room for it, or a rule is against it
		}
		if err := m.act("move", "start", deploymentOfTeam, "--what", theMoved, "--to", to, "--mode", string(request.Mode), "--at-once", "--detach"); err != nil {
			return err
		}
		return m.endMove()
	}
	return fmt.Errorf("%s at %s can be moved nowhere: %w", theMoved, from, why)
}

// endMove ends the last move in either way.
func (m *team) endMove() error {
	all, err := m.a.Moves(m.t.Context())
	if err != nil {
		return err
	}
	how := []string{"commit", "back"}[m.r.IntN(2)]
	return m.act("move", how, strconv.FormatInt(all[0].ID, 10), "--confirm", deploymentOfTeam)
}
