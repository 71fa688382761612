package plan

import (
	"fmt"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan/op"
)

// payloads say of each payload what a step lacks that is to carry it. A script is not always there: what it lacks, the site does or an
// endpoint is asked.
var payloads = map[op.Payload]func(*Plan, *Step) error{
	op.None:    func(*Plan, *Step) error { return nil },
	op.Script:  func(*Plan, *Step) error { return nil },
	op.Clause:  (*Plan).checkClause,
	op.Action:  (*Plan).checkAction,
	op.Copying: (*Plan).checkCopying,
	op.Terms:   (*Plan).checkTerms,
	op.Naming:  (*Plan).checkNaming,
	op.Filling: (*Plan).checkFilling,

	op.Balancing: (*Plan).checkBalancing,
	op.Member:    (*Plan).checkMember,

	op.Restoring: (*Plan).checkRestoring,
}

// checkPayload says what a step lacks that its operation takes. Building an object takes what is lifted to it.
func (p *Plan) checkPayload(s *Step) error {
	if s.Op == op.Create && p.resources[s.Resource].Kind == kinds.Object && (s.Filling == nil || s.Filling.File == "") {
		return fmt.Errorf("step %s lifts nothing", s.ID)
	}
	if row := s.Op.Row(); s.Undo != nil && row.Undo == "" {
		return fmt.Errorf("step %s is to be taken back by a script, which a step that is to %s cannot be", s.ID, s.Op)
	}
	if (s.Quiesce == nil) != (s.Resume == nil) {
		return fmt.Errorf("what step %s leaves running is quiesced and never resumed, or the other way", s.ID)
	}
	return payloads[s.Op.Row().Payload](p, s)
}

func (p *Plan) checkClause(s *Step) error {
	if s.When == nil {
		return fmt.Errorf("step %s requires nothing", s.ID)
	}
	return nil
}

func (p *Plan) checkAction(s *Step) error {
	if s.Action == nil {
		return fmt.Errorf("step %s is an action and does not say which", s.ID)
	}
	return nil
}

func (p *Plan) checkTerms(s *Step) error {
	if s.Copying == nil {
		return fmt.Errorf("step %s waits for nothing", s.ID)
	}
	return nil
}

func (p *Plan) checkCopying(s *Step) error {
	if s.Copying == nil || len(s.Copying.Disks) == 0 {
		return fmt.Errorf("step %s copies nothing", s.ID)
	}
	if !p.lists(s.Copying.From) {
		return fmt.Errorf("step %s copies from the site %q, which the plan does not list", s.ID, s.Copying.From)
	}
	for _, d := range s.Copying.Disks {
		if p.resources[d.From] == nil || p.resources[d.To] == nil {
			return fmt.Errorf("step %s copies from %q to %q, which the plan does not have", s.ID, d.From, d.To)
		}
	}
	return nil
}

func (p *Plan) checkNaming(s *Step) error {
	if s.Naming == nil || s.Naming.Name == "" {
		return fmt.Errorf("step %s names nothing", s.ID)
	}
	return nil
}

func (p *Plan) checkRestoring(s *Step) error {
	if s.Restoring == nil || s.Restoring.Snapshot == "" {
		return fmt.Errorf("step %s restores nothing", s.ID)
	}
	if s.Restoring.Provider != "" {
		return nil
	}
	switch of := p.resources[s.Restoring.Snapshot]; {
	case of == nil || of.Kind != kinds.Snapshot:
		return fmt.Errorf("step %s restores %q, which is no snapshot of the plan", s.ID, s.Restoring.Snapshot)
	case of.AsSnapshot().Memory != (s.Op == op.Recall):
		return fmt.Errorf("step %s restores %q, which keeps something else", s.ID, s.Restoring.Snapshot)
	case of.Site != s.Site:
		return fmt.Errorf("step %s is at %s and restores a snapshot at %s", s.ID, s.Site, of.Site)
	}
	return nil
}

func (p *Plan) checkFilling(s *Step) error {
	if s.Filling == nil || s.Filling.File == "" {
		return fmt.Errorf("step %s is filled from nothing", s.ID)
	}
	if s.Filling.Object != "" && p.resources[s.Filling.Object] == nil {
		return fmt.Errorf("step %s is filled from the object %q, which the plan does not have", s.ID, s.Filling.Object)
	}
	return nil
}
