package runs

import (
	"errors"
	"os"
	"path/filepath"

	"andamio/internal/core/plan"
)

// dropPacked removes the packages that were packed for a run that is over.
func (svc *Service) dropPacked(p *plan.Plan) error {
	for i := range p.Steps {
		x := p.Steps[i].Filling
		if x == nil || filepath.Dir(x.File) != filepath.Join(svc.workspace.Dir, "packages") {
			continue
		}
		if err := os.Remove(x.File); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}
