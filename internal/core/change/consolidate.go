package change

import (
	"slices"

	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
)

// Consolidated adds to the plan that commits a move that the layers are made one in which the rounds were kept apart at
// the target, if the move kept them so. It is done while the workloads run, beside what is taken away.
func Consolidated(commit, move *plan.Plan) error {
	for i := range move.Steps {
		s := &move.Steps[i]
		if s.Op != op.Finish || s.Copying.Consolidate || move.Step(op.Replicate.On(s.Resource)) == nil {
			continue
		}
		r := commit.Resource(s.Resource)
		if r == nil || slices.ContainsFunc(commit.Steps, func(x plan.Step) bool { return x.Resource == r.ID && x.Op == op.Remove }) {
			continue
		}
		terms := plan.Copying{From: r.Site, Disks: s.Copying.Disks}
		commit.Steps = append(commit.Steps, plan.Step{ID: op.Consolidate.On(r.ID), Resource: r.ID, Op: op.Consolidate, Site: r.Site,
			Title: "make the layers of its disks one", Copying: &terms, Seconds: 1, Check: plan.Condition{Kind: plan.CheckSite}})
	}
	return plan.Reindexed(commit).Arrange()
}
