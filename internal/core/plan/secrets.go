package plan

import "slices"

// SecretsAsked are the names of the secrets that the steps of a plan are given when they are run, sorted.
func (p *Plan) SecretsAsked() []string {
	var out []string
	ask := func(e *Expr) {
		if e != nil {
			out = append(out, e.Secrets()...)
		}
	}
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Script != nil {
			for k := range s.Script.Inputs {
				ask(&s.Script.Inputs[k].Value)
			}
		}
		if s.Action != nil {
			ask(&s.Action.URL)
			ask(s.Action.Body)
		}
		if s.Member != nil {
			ask(&s.Member.Address)
			ask(&s.Member.Port)
		}
		ask(s.Check.Address)
		ask(s.Check.Port)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
