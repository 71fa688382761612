package move

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/change"
	"andamio/internal/service/moves"
	"andamio/internal/service/sites"
	"andamio/internal/tui/view"
)

// Keys are the keys that matter here: of a move that is planned, of one that is worked out, of one that goes on.
func (v *View) Keys() []view.Key {
	switch {
	case v.shown() != nil:
		return v.keysMoving()
	case v.draft != nil:
		return v.keysDraft()
	}
	return v.keysPlanning()
}

func (v *View) keysPlanning() []view.Key {
	space, says := "mark", "marks the workload to be moved with others, or takes the mark off"
	if v.focus == onSettings {
		space, says = "change", "takes the next of what is possible, or asks"
	}
	only := "for this one alone"
	if v.only {
		only = "for all"
	}
	keys := []view.Key{view.On(view.UpDown, "↑↓", "choose", "selects a workload, how it is moved, or where it goes", v.choosing(v.stepHere)),
		view.On("space", "space", space, says, v.choosing(v.takeHere))}
	if v.broken != nil {
		keys = append(keys, view.On("l", "l", "lift the rules", "asks, then lifts the rules that forbid this move, for it alone", view.Run(v.liftRules)))
	}
	return append(keys,
		view.On("enter", "enter", "work it out", "works out how long it takes, what will be otherwise, and what undoes it; nothing is moved yet", view.Run(v.work)),
		view.On(view.LeftRight+" tab", "←→", "what, how, where", "goes from the workloads to the settings and to the sites", v.turnFocus),
		view.On("p", "p", "pair", "pairs the sites so that disks can be copied between them", view.Run(v.pairNow)),
		view.On("m", "m", "mode", "takes the next of warm, live and cold", v.choosing(func(string) tea.Cmd { v.nextMode(); return nil })),
		view.On("t", "t", "window", "asks when copying may go on", view.Run(func() tea.Cmd { return view.Cmd(view.Prompt{Act: *v.windowAct()}) })),
		view.On("o", "o", only, "sets what is chosen for the target for the selected workload alone, or for all", v.choosing(func(string) tea.Cmd { v.only = !v.only; return nil })),
		view.On("[ ]", "[ ]", "moves", "shows the moves that were begun, one after the other", v.other))
}

// choosing does what a key chooses; what was wrong with the choice before is no longer said.
func (v *View) choosing(do func(key string) tea.Cmd) func(string) tea.Cmd {
	return func(key string) tea.Cmd {
		v.problem, v.broken = "", nil
		return do(key)
	}
}

func (v *View) stepHere(key string) tea.Cmd {
	_, dy := view.Way(key)
	v.step(dy)
	return nil
}

// takeHere changes the selected setting, or marks the selected workload.
func (v *View) takeHere(string) tea.Cmd {
	if v.focus == onSettings {
		return v.alter()
	}
	if len(v.rows) > 0 && v.focus == onSources {
		id := v.rows[v.cursor].id
		v.marked[id] = !v.marked[id]
	}
	return nil
}

// turnFocus goes to the column before or after; tab goes round.
func (v *View) turnFocus(key string) tea.Cmd {
	if key == "tab" {
		v.focus = (v.focus + 1) % (onTargets + 1)
		return nil
	}
	dx, _ := view.Way(key)
	v.focus = min(max(v.focus+focus(dx), onSources), onTargets)
	return nil
}

func (v *View) keysDraft() []view.Key {
	if v.draft.Move.Request.Mode == change.FromCopy {
		return slices.DeleteFunc(v.keysAny(), func(k view.Key) bool { return k.Help().Key == "m" })
	}
	return v.keysAny()
}

func (v *View) keysAny() []view.Key {
	return []view.Key{
		view.On("r", "r", "begin", "begins the move; until it is committed it can go back", view.Run(func() tea.Cmd { return v.start(map[string]string{}) })),
		view.On("m", "m", "mode", "works it out in the next of warm, live and cold", view.Run(func() tea.Cmd { v.nextMode(); return v.work() })),
		view.On(view.UpDown, "↑↓", "workload", "selects one of the workloads", v.pickOther),
		view.On("esc", "esc", "choose anew", "goes back to choosing", view.Then(func() { v.draft, v.pick = nil, 0 })),
	}
}

func (v *View) pickOther(key string) tea.Cmd {
	_, dy := view.Way(key)
	v.pick = min(max(v.pick+dy, 0), max(len(v.workloads())-1, 0))
	return nil
}

func (v *View) keysMoving() []view.Key {
	return append(v.keysOfWave(),
		view.On("up down j", "↑↓", "workload", "selects one of the workloads", v.pickOther),
		view.On("[ ]", "[ ]", "other moves", "shows the move before or after", v.other),
		view.On("n esc", "n", "new move", "chooses another move", view.Then(func() { v.at, v.draft = -1, nil })),
		view.On("v", "v", "waves", "shows or hides when which wave goes", view.Then(func() { v.calm = !v.calm })))
}

// keysOfWave are what can be done with the wave that is on now.
func (v *View) keysOfWave() []view.Key {
	m := v.shown()
	back := view.On("b", "b", "go back", "shows what going back does, and does it once you say so", view.Run(v.goBack))
	again := func(word, says string) view.Key { return view.On("r", "r", word, says, view.Run(v.next)) }
	switch m.States[m.Current()] {
	case moves.WaveMoving:
		var keys []view.Key
		if v.failures() > 0 {
			keys = append(keys, again("try again", "tries what failed again"))
		}
		if !v.cutting() {
			pause, says := "pause", "lets the copying rest after the block that is on its way"
			if v.paused() {
				pause, says = "go on", "lets the copying go on"
			}
			keys = append(keys, view.On("c", "c", "cut over", "asks, then stops it here, copies what is left, and starts it there", view.Run(v.cutOver)), view.On("s", "s", pause, says, view.Run(v.rest)))
		}
		return append(keys, back)
	case moves.WaveMoved:
		return []view.Key{back, view.On("k", "k", "commit", "shows what is taken away where it was, and does it once you say so; then nothing goes back", view.Run(v.commit))}
	case moves.WaveBroken:
		return []view.Key{again("go on", "lets the run that broke off go on"), back}
	case moves.WavePlanned:
		return []view.Key{again("begin the wave", "begins the next wave")}
	}
	return nil
}

func (v *View) nextMode() {
	all := []change.Mode{change.Warm, change.Live, change.Cold}
	v.wish.Mode = all[(slices.Index(all, v.wish.Mode)+1)%len(all)]
}

// liftRules lifts the rules that keep the move from being worked out, once that is confirmed, and works it out.
func (v *View) liftRules() tea.Cmd {
	rules := v.broken.Rules()
	return view.Cmd(view.Confirm{Act: view.Action{Name: "lift " + strings.Join(rules, ", "), Effect: "For this move alone: " + v.broken.Because() + ". What is lifted is said with the move.",
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
	if v.takes = nil; d == 0 {
		take := taking(&v.deployments[deployment], ids)
		v.takes = &take
		return func() tea.Msg {
			draft, err := v.draftTaken(take, w)
			return drafted{draft, err}
		}
	}
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
		return view.Cmd(view.Notice{Text: "choose a site: placement has chosen none yet", Bad: true})
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
			p, err := v.app.MakePair(v.ctx, from, to, sites.Both)
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

// start asks for the secrets that do not travel, one by one, and then begins the move.
func (v *View) start(given map[string]string) tea.Cmd {
	for _, name := range v.draft.Secrets {
		if given[name] != "" {
			continue
		}
		return view.Cmd(view.Prompt{Act: view.Action{Name: "secrets do not travel", Ask: name + " for " + v.draft.Move.Choices[0].Site, Hide: true,
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
	if v.takes != nil && draft.Move.Deployment == 0 {
		return v.takeAndStart(*v.takes, draft.Move.Request, given)
	}
	return func() tea.Msg {
		id, _, err := v.app.StartMove(v.ctx, draft, given)
		return done{fmt.Sprintf("move %d has begun", id), err, true}
	}
}
