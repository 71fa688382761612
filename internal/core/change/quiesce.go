package change

import (
	"slices"
	"strings"
	"time"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
)

// quiet is software that is kept still by scripts of its own while snapshots are taken: what stands highest first, and the other way round when it goes on.
type quiet struct {
	from     *plan.Plan
	software []*plan.Step
	// steps are those by which it is kept still.
	steps []string
}

// The parts of the ids of these steps.
const (
	partQuiesce = "quiesce"
	partResume  = "resume"
	partRescue  = "resume-all-the-same"
)

// quieted adds the steps that keep software still on the machines that some disks are of: what runs, and has scripts for it.
func quieted(from Standing, p *plan.Plan, disks []disk) *quiet {
	q := &quiet{from: from.Plan}
	rank := map[string]int{}
	for _, d := range disks {
		rank[d.on] = d.rank
	}
	for i := range from.Plan.Steps {
		s := &from.Plan.Steps[i]
		on := instanceOf(from.Plan, from.Plan.Resource(s.Resource))
		if _, meant := rank[on]; !meant || on == "" || s.Quiesce == nil || from.Unsure[s.ID] || from.Plan.Resource(on).Off {
			continue
		}
		q.software = append(q.software, s)
	}
	of := func(s *plan.Step) int { return rank[instanceOf(from.Plan, from.Plan.Resource(s.Resource))] }
	slices.SortStableFunc(q.software, func(a, b *plan.Step) int { return of(b) - of(a) })
	for _, s := range q.software { // one after another: where one fails, none keeps still that is let go on before
		q.add(p, s, partQuiesce, s.Quiesce, slices.Clone(q.steps))
		q.steps = append(q.steps, op.Do.For(s.Resource, partQuiesce))
	}
	return q
}

// resume adds the steps that let it go on after others: also where one of some fails, so that nothing keeps still that serves.
func (q *quiet) resume(p *plan.Plan, after, may []string) {
	for i := len(q.software) - 1; i >= 0; i-- {
		s := q.software[i]
		q.add(p, s, partResume, s.Resume, after)
		after = append(slices.Clone(after), op.Do.For(s.Resource, partResume))
		q.add(p, s, partRescue, s.Resume, nil)
		p.Steps[len(p.Steps)-1].AfterFailure = may
	}
}

// add adds a step that runs a script of some software.
func (q *quiet) add(p *plan.Plan, of *plan.Step, part string, script *plan.Script, after []string) {
	r := p.Resource(of.Resource)
	if p.Scripts == nil {
		p.Scripts, p.Files = map[string]string{}, map[string][]byte{}
	}
	p.Scripts[script.Path] = q.from.Scripts[script.Path]
	for _, f := range script.Files {
		p.Files[f.File] = q.from.Files[f.File]
	}
	p.Steps = append(p.Steps, plan.Step{ID: op.Do.For(r.ID, part), Resource: r.ID, Op: op.Do, Site: r.Site, Title: strings.ReplaceAll(part, "-", " ") + " " + r.Title, Seconds: 1, Script: script, After: after,
		Check: plan.Condition{Kind: plan.CheckExit}})
}

// quiesced has what was kept still and not let go on be started again by the next change: a run that was ended in between left it so.
func (f *fold) quiesced(s *run.State) {
	still, goes := map[string]time.Time{}, map[string]time.Time{}
	for i := range s.Steps {
		st := &s.Steps[i]
		switch part := op.ParseID(st.ID).Part; {
		case st.Op != op.Do:
		case part == partQuiesce && (st.Status == run.Standing || begun(st)):
			still[st.Resource] = latest(still[st.Resource], latest(st.Started, st.Ended))
		case (part == partResume || part == partRescue) && st.Status == run.Standing:
			goes[st.Resource] = latest(goes[st.Resource], st.Ended)
		}
	}
	for id, st := range f.steps {
		if at, was := still[st.Resource]; st.Quiesce != nil && was && !goes[st.Resource].After(at) {
			f.unsure[id] = true
		}
	}
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
