package today

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/alarm"
	"andamio/internal/core/run"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/watch"
	"andamio/internal/tui/operate"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// alertItems are what is wrong and nobody has silenced: what is critical before all else, the others further down.
func (v *View) alertItems(now time.Time) []item {
	var out []item
	for i := range v.alerts {
		a := &v.alerts[i]
		if a.Quiet(now) || a.Waits { // a run works on it: what came of that is seen after it
			continue
		}
		rank, status := rankAlert, run.Failed
		if a.Severity < alarm.Critical {
			rank, status = rankEndangered, run.Held
		}
		below := fmt.Sprintf("%s since %s, %s", a.Severity, a.Since.Local().Format("15:04"), part.Age(a.Since, now))
		acts := "look at it; a: see to it, or silence it"
		if a.Known != nil {
			below = a.Known.By + " sees to it · " + below
			acts = "look at it"
		}
		if help := watch.Helps(a); help != "" {
			acts = "look at it; a: " + help
		}
		why := a.Words
		if hits := a.Hits(); hits != "" {
			why += " · " + hits
		}
		out = append(out, item{rank: rank, status: status, title: a.Title(), below: below, why: why, acts: acts, do: v.lookAtAlert(a), reason: append(alertReason(a), v.stories[a.ID]...), alert: a.ID})
	}
	return out
}

// mostStories is of how many alerts it is read what had to do with them.
const mostStories = 12

// storiesOf are what had to do with the first alerts; of one of which that cannot be read nothing is said.
func (v *View) storiesOf(ctx context.Context, all []alarm.Alert) map[int64][]string {
	out := map[int64][]string{}
	for i := range all[:min(len(all), mostStories)] {
		if s, err := v.app.Story(ctx, all[i]); err == nil {
			out[all[i].ID] = s.Lines()
		}
	}
	return out
}

// lookAtAlert goes to what the alert is of: the deployment that it hits first, or its site.
func (v *View) lookAtAlert(a *alarm.Alert) tea.Cmd {
	id := a.Deployment
	if id == 0 && len(a.Deployments) > 0 {
		id = a.Deployments[0]
	}
	switch {
	case id != 0 && a.Resource != "":
		return view.Cmd(view.Show{Thing: reconcile.Thing{Kind: reconcile.AResource, ID: a.Resource, Deployment: id}})
	case id != 0:
		return view.Cmd(view.Show{Thing: reconcile.Thing{Kind: reconcile.ADeployment, ID: fmt.Sprint(id), Deployment: id}})
	}
	return view.Cmd(view.Goto{Digit: "1"})
}

// alertActs are what can be said of the alert of an item, and what would help against it.
func (v *View) alertActs(it item) []view.Action {
	i := slices.IndexFunc(v.alerts, func(a alarm.Alert) bool { return it.alert != 0 && a.ID == it.alert })
	if i < 0 {
		return nil
	}
	a := v.alerts[i]
	var out []view.Action
	if help := watch.Helps(&a); help != "" {
		out = append(out, view.Action{Name: help, Effect: "raises it again; shows the plan first", Do: func() tea.Cmd { return v.help(a.ID) }})
	}
	return append(out, operate.AlertActs(context.Background(), v.app, a)...)
}

// help works out what would help against an alert, and has the Deploy view show it.
func (v *View) help(id int64) tea.Cmd {
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), lookWithin)
		defer cancel()
		o, err := v.app.Helping(ctx, id)
		if err != nil {
			return view.Failed(err)
		}
		return tea.BatchMsg{view.Cmd(view.OpenOrder{Order: o}), view.Cmd(view.Goto{Digit: "4"})}
	}
}

// alertReason says all that is over, and by which thresholds.
func alertReason(a *alarm.Alert) []string {
	out := []string{"One cause is one alert: what fails because of it is silent below it."}
	if a.Inferred {
		out = append(out, "Nothing is measured of the cause itself: it is what all that fails has in common.")
	}
	for i := range a.Alarms {
		x := &a.Alarms[i]
		from := fmt.Sprintf("thresholds.yaml:%d", x.Line)
		if x.Shipped {
			from = "shipped"
		}
		out = append(out, fmt.Sprintf("%s %s: %s (%s, %s)", x.Kind, x.Name, x.Words, cmp.Or(x.Threshold, "threshold"), from))
	}
	return out
}

// hit reports that an alert says what is wrong with a deployment.
func (v *View) hit(deployment int64) bool {
	return slices.ContainsFunc(v.alerts, func(a alarm.Alert) bool { return slices.Contains(a.Deployments, deployment) })
}
