package operate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/service/deployments"
	"andamio/internal/service/snapshots"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// keptShown is how many of the newest snapshots are shown at the side.
const keptShown = 4

// newest are the sets that are kept of a deployment, the newest first.
func newest(d *deployments.Deployment) []snapshots.Set {
	all := snapshots.SetsOf(d.Stand)
	slices.Reverse(all)
	return all
}

// drawKept lists what is kept of the deployment's disks: how much it holds and how old it is. The one that they hold what came of is marked.
func (v *View) drawKept(c *part.Canvas, r part.Rect, d *deployments.Deployment) int {
	all := newest(d)
	if len(all) == 0 {
		return r.Y
	}
	y := r.Y
	c.Text(r.X, y, part.In(part.Steel).Strong(), "snapshots")
	if more := len(all) - keptShown; more > 0 {
		c.Right(r.X+r.W, y, part.In(part.Dim), fmt.Sprintf("%d more", more))
	}
	for i := range all[:min(len(all), keptShown)] {
		y++
		x := &all[i]
		status, age := kept(x, v.now)
		at := c.Text(r.X, y, part.In(part.InkOf(status)), c.Look.Mark(status))
		tail := printable.Bytes(x.Held) + "  " + strings.TrimSuffix(age, " ago")
		name := part.In(part.Text)
		if x.Head {
			name = name.Strong()
		}
		c.Cut(at+1, y, r.W-part.Width(tail)-4, name, x.Name)
		c.Right(r.X+r.W, y, part.In(part.Dim), tail)
	}
	return y + 2
}

// kept says how a set is: how old, or that not all of it was taken.
func kept(x *snapshots.Set, now time.Time) (run.Status, string) {
	if !x.Whole {
		return run.Failed, "not whole"
	}
	return run.Standing, part.Age(x.Taken, now)
}

// keeping are the acts on what disks hold: to keep it, to have it back here or beside, and to drop what is kept.
func (v *View) keeping(d *deployments.Deployment, tier string, first func(name, effect string, make func() (deployments.Order, error)) view.Action) []view.Action {
	id, what := d.ID, d.Name
	var of []string
	if tier != "" {
		of, what = []string{tier}, tier
	}
	out := []view.Action{
		first("take a snapshot of "+what, "keeps what its disks hold while all runs, what stands highest first", func() (deployments.Order, error) {
			return v.app.Taking(v.ctx, id, snapshots.TakeRequest{Of: of}, time.Now())
		}),
		first("take one of a single moment", "lets the machines of "+what+" stand still until what all disks hold is kept", func() (deployments.Order, error) {
			return v.app.Taking(v.ctx, id, snapshots.TakeRequest{Of: of, Barrier: true}, time.Now())
		}),
	}
	if v.mayKeepMemory(id, of) {
		out = append(out, first("take one with memory", "keeps what is in the memory of its machines too, which stand still meanwhile, and go on from there one day", func() (deployments.Order, error) {
			return v.app.Taking(v.ctx, id, snapshots.TakeRequest{Of: of, Memory: true}, time.Now())
		}))
	}
	all := newest(d)
	if len(all) == 0 {
		return out
	}
	if last := all[0].Name; all[0].Whole {
		does := "stops what runs on its disks, keeps what they hold now, and has them hold what they held"
		if all[0].Memory {
			does = "keeps what its machines hold and do now, and has them go on from where they were then"
		}
		out = append(out, first("restore "+last, does, func() (deployments.Order, error) {
			return v.app.Restoring(v.ctx, id, snapshots.RestoreRequest{Set: last, Of: of}, time.Now())
		}))
	}
	if len(all) > 1 {
		out = append(out, v.which("restore another snapshot", "of those that are listed; shows the plan first", all, func(set string) (deployments.Order, error) {
			return v.app.Restoring(v.ctx, id, snapshots.RestoreRequest{Set: set, Of: of}, time.Now())
		}))
	}
	return append(out, view.Action{Name: "restore beside", Effect: "another deployment, whose volumes hold what a snapshot keeps; shows the plan first", Ask: "SNAPSHOT NAME",
		Answer: func(text string) tea.Cmd {
			set, name, _ := strings.Cut(strings.TrimSpace(text), " ")
			return v.compile(func() (deployments.Order, error) { return v.app.Beside(v.ctx, id, set, strings.TrimSpace(name)) })
		}, Wrong: func(text string) string {
			set, name, _ := strings.Cut(strings.TrimSpace(text), " ")
			if why := unknown(all, set); why != "" {
				return why
			}
			if strings.TrimSpace(name) == "" {
				return "then the name of the new deployment"
			}
			return ""
		}}, v.which("drop a snapshot", "what it keeps is gone then; shows the plan first", all, func(set string) (deployments.Order, error) {
		return v.app.DroppingSnapshot(v.ctx, id, set)
	}))
}

// mayKeepMemory reports that the sites of some of a deployment keep memory: only then it is offered.
func (v *View) mayKeepMemory(deployment int64, of []string) bool {
	if v.app == nil {
		return false
	}
	may, err := v.app.MayKeepMemory(v.ctx, deployment, of)
	return may && err == nil
}

// which is an act on one of some sets, whose name is asked for.
func (v *View) which(name, effect string, all []snapshots.Set, order func(set string) (deployments.Order, error)) view.Action {
	return view.Action{Name: name, Effect: effect, Ask: "which, such as " + all[0].Name, Answer: func(text string) tea.Cmd {
		return v.compile(func() (deployments.Order, error) { return order(strings.TrimSpace(text)) })
	}, Wrong: func(text string) string { return unknown(all, strings.TrimSpace(text)) }}
}

// unknown says that no set is called so.
func unknown(all []snapshots.Set, name string) string {
	var names []string
	for i := range all {
		if all[i].Name == name {
			return ""
		}
		names = append(names, all[i].Name)
	}
	return "there is no such snapshot; there are " + strings.Join(names, ", ")
}
