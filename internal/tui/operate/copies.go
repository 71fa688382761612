package operate

import (
	"errors"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/moves"
	"andamio/internal/service/replicas"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// drawCopies lists the copies of the deployment's disks at other sites: how much they hold, and of which moment they are.
func (v *View) drawCopies(c *part.Canvas, r part.Rect, d *deployments.Deployment) int {
	all := replicas.Of(d.Stand)
	if len(all) == 0 {
		return r.Y
	}
	y := r.Y
	c.Text(r.X, y, part.In(part.Steel).Strong(), "copies elsewhere")
	for i := range all {
		y++
		x := &all[i]
		status, word := copied(x, v.now)
		at := c.Text(r.X, y, part.In(part.InkOf(status)), c.Look.Mark(status))
		tail := printable.Bytes(x.Held) + "  " + word
		c.Cut(at+1, y, r.W-part.Width(tail)-4, part.In(part.Text), x.Site)
		c.Right(r.X+r.W, y, part.In(part.Dim), tail)
	}
	return y + 2
}

// copied says how copies are: as of how long ago, or that none is whole.
func copied(x *replicas.Replica, now time.Time) (run.Status, string) {
	if x.Set == "" {
		return run.Failed, "not whole"
	}
	return run.Standing, "as of " + part.Age(x.As, now)
}

// copying are the acts on copies at other sites: to make them like the disks now, to fail over to them, and to drop them.
func (v *View) copying(d *deployments.Deployment, first func(name, effect string, make func() (deployments.Order, error)) view.Action) []view.Action {
	out := []view.Action{{Name: "keep a copy at another site", Effect: "copies its disks there while it runs, or what was written since; shows the plan first", Ask: "which site",
		Answer: func(text string) tea.Cmd {
			return v.compile(func() (deployments.Order, error) {
				return v.app.Replicating(v.ctx, d.ID, replicas.Request{Site: strings.TrimSpace(text)}, time.Now())
			})
		}, Wrong: func(text string) string {
			if strings.TrimSpace(text) == "" {
				return "the name of a site"
			}
			return ""
		}}}
	for _, x := range replicas.Of(d.Stand) {
		_, word := copied(&x, v.now)
		if x.Set != "" {
			out = append(out, view.Action{Name: "fail over to " + x.Site, Effect: "goes on there " + word + "; what was written since is lost, and what is here is kept, off; shows all of it first",
				Do: func() tea.Cmd { return v.failOver(d.ID, x.Site) }})
		}
		out = append(out, first("drop the copies at "+x.Site, "nothing can be failed over to there then", func() (deployments.Order, error) { return v.app.DroppingReplica(v.ctx, d.ID, x.Site) }))
	}
	return out
}

// failOver works out beside the screen how it would go on at the site of its copies, and has the Move view show it. Rules that this breaks are lifted, and
// are among what differs there.
func (v *View) failOver(deployment int64, to string) tea.Cmd {
	return func() tea.Msg {
		w := moves.FailOver{To: to}
		draft, err := v.app.DraftFailOver(v.ctx, deployment, w)
		notice := "this is what failing over would do; r begins it"
		if broken := (*moves.Breaking)(nil); errors.As(err, &broken) {
			w.Lift = broken.Rules()
			draft, err = v.app.DraftFailOver(v.ctx, deployment, w)
			notice = fmt.Sprintf("it breaks the rules %s, which are lifted when it is begun with r", strings.Join(w.Lift, ", "))
		}
		if err != nil {
			return view.Failed(err)
		}
		return tea.BatchMsg{view.Cmd(view.FailOver{Draft: draft}), view.Cmd(view.Goto{Digit: "6"}), view.Cmd(view.Notice{Text: notice})}
	}
}
