package move

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/app"
	"andamio/internal/core/change"
	"andamio/internal/tui/view"
)

func (v *View) keyPlanning(key string) (tea.Cmd, bool) {
	switch key {
	case "up", "k":
		v.step(-1)
	case "down", "j":
		v.step(1)
	case "left", "h":
		v.focus = max(v.focus-1, onSources)
		return nil, true
	case "right", "l":
		if key == "l" && v.broken != nil {
			return v.liftRules(), true
		}
		v.focus = min(v.focus+1, onTargets)
		return nil, true
	case "tab":
		v.focus = (v.focus + 1) % (onTargets + 1)
		return nil, true
	case "space":
		if v.focus == onSettings {
			v.problem, v.broken = "", nil
			return v.alter(), true
		}
		if len(v.rows) > 0 && v.focus == onSources {
			id := v.rows[v.cursor].id
			v.marked[id] = !v.marked[id]
		}
	case "m":
		v.nextMode()
	case "o":
		v.only = !v.only
	case "enter":
		return v.work(), true
	case "p":
		return v.pairNow(), true
	case "t":
		return view.Cmd(view.Prompt{Act: *v.windowAct()}), true
	case "[", "]":
		return v.other(key), true
	default:
		return nil, false
	}
	v.problem, v.broken = "", nil
	return nil, true
}

func (v *View) nextMode() {
	all := []change.Mode{change.Warm, change.Live, change.Cold}
	v.wish.Mode = all[(slices.Index(all, v.wish.Mode)+1)%len(all)]
}

// liftRules lifts the rules that keep the move from being worked out, once that is confirmed, and works it out.
func (v *View) liftRules() tea.Cmd {
	rules := v.broken.Rules()
	return view.Cmd(view.Confirm{Act: view.Act{Name: "lift " + strings.Join(rules, ", "), Effect: "For this move alone: " + v.broken.Because() + ". What is lifted is said with the move.",
		Do: func() tea.Cmd {
			v.wish.Lift = rules
			return v.work()
		}}})
}

func (v *View) step(d int) {
	switch v.focus {
	case onTargets:
		v.to = min(max(v.to+d, 0), len(v.sites))
	case onSettings:
		v.knob = min(max(v.knob+d, 0), len(v.settings())-1)
	default:
		v.cursor = min(max(v.cursor+d, 0), max(len(v.rows)-1, 0))
	}
}

// target is the site that is chosen, "" where placement chooses.
func (v *View) target() string {
	if v.to < len(v.sites) {
		return v.sites[v.to]
	}
	return ""
}

// chosen are the workloads that are marked, or the one under the cursor, and their deployment.
func (v *View) chosen() (deployment int, ids []string) {
	deployment = -1
	for _, r := range v.rows {
		if v.marked[r.id] && (deployment < 0 || deployment == r.deployment) {
			deployment, ids = r.deployment, append(ids, r.id)
		}
	}
	if len(ids) == 0 && len(v.rows) > 0 {
		return v.rows[v.cursor].deployment, []string{v.rows[v.cursor].id}
	}
	return deployment, ids
}

// work works out the move that is chosen.
func (v *View) work() tea.Cmd {
	deployment, ids := v.chosen()
	if deployment < 0 || len(v.sites) == 0 {
		return nil
	}
	d, w := v.deployments[deployment].ID, v.wish
	w.What, w.To, w.Waves = ids, v.target(), len(ids) > 1
	w.Each = maps.Clone(w.Each)
	v.drafting, v.problem, v.broken = true, "", nil
	return func() tea.Msg {
		draft, err := v.app.DraftMove(v.ctx, d, w)
		return drafted{draft, err}
	}
}

// pairNow pairs the sites of what is chosen with the one it goes to.
func (v *View) pairNow() tea.Cmd {
	deployment, ids := v.chosen()
	if deployment < 0 || len(v.sites) == 0 {
		return nil
	}
	to := v.target()
	if to == "" {
		return view.Cmd(view.Told{Text: "choose a site: placement has chosen none yet", Bad: true})
	}
	var froms []string
	for _, id := range ids {
		if from := v.deployments[deployment].Stand.Plan.Resource(id).Site; from != to && !slices.Contains(froms, from) {
			froms = append(froms, from)
		}
	}
	v.problem = ""
	return func() tea.Msg {
		for _, from := range froms {
			p, err := v.app.MakePair(v.ctx, from, to, app.Both)
			if err != nil {
				return done{err: err}
			}
			if why := p.Trouble(); why != "" {
				return done{err: fmt.Errorf("they are paired, and %s", why)}
			}
		}
		return done{text: fmt.Sprintf("%s is paired with %s", to, strings.Join(froms, ", "))}
	}
}

func (v *View) keyDraft(key string) (tea.Cmd, bool) {
	switch key {
	case "up", "k":
		v.pick = max(v.pick-1, 0)
	case "down", "j":
		v.pick = min(v.pick+1, max(len(v.workloads())-1, 0))
	case "esc":
		v.draft, v.pick = nil, 0
	case "r":
		return v.start(map[string]string{}), true
	case "m":
		v.nextMode()
		return v.work(), true
	default:
		return nil, false
	}
	return nil, true
}

// start asks for the secrets that do not travel, one by one, and then begins the move.
func (v *View) start(given map[string]string) tea.Cmd {
	for _, name := range v.draft.Secrets {
		if given[name] != "" {
			continue
		}
		return view.Cmd(view.Prompt{Act: view.Act{Name: "secrets do not travel", Ask: name + " for " + v.draft.Move.Choices[0].Site, Hide: true,
			Effect: "It is set anew where the workload goes, and kept with the credentials.",
			Answer: func(text string) tea.Cmd {
				given[name] = text
				return v.start(given)
			},
			Wrong: func(text string) string {
				if text == "" {
					return "nothing is given yet"
				}
				return ""
			}}})
	}
	draft := v.draft
	return func() tea.Msg {
		id, _, err := v.app.StartMove(v.ctx, draft, given)
		return done{fmt.Sprintf("move %d has begun", id), err, true}
	}
}

func (v *View) keyMoving(key string) (tea.Cmd, bool) {
	switch key {
	case "up", "k":
		if key == "k" {
			return v.commit(), true
		}
		v.pick = max(v.pick-1, 0)
	case "down", "j":
		v.pick = min(v.pick+1, max(len(v.workloads())-1, 0))
	case "c":
		return v.cutOver(), true
	case "b":
		return v.goBack(), true
	case "s":
		return v.rest(), true
	case "n", "esc":
		v.at, v.draft = -1, nil
	case "v":
		v.calm = !v.calm
	case "[", "]":
		return v.other(key), true
	case "r":
		return v.next(), true
	default:
		return nil, false
	}
	return nil, true
}
