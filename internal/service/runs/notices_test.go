package runs

import (
	"context"
	"log/slog"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/plan"
	"andamio/internal/engine"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
)

// TestARunsSitesAreToldWhereItsNoticesAreHeard has the notices that wake a run come to another address than the usual.
func TestARunsSitesAreToldWhereItsNoticesAreHeard(t *testing.T) {
	t.Parallel()
	ws, err := workspace.Open(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, ws.SetHearing(workspace.Hearing{Listen: "127.0.0.2"}))
	svc := New(nil, ws, nil, slog.Default(), Workers{}, nil, nil, &Tails{})
	told := &pushes{}
	e := &engine.Engine{Plan: &plan.Plan{Sites: []plan.Site{{Name: "vega"}}}, Sites: map[string]site.Site{"vega": told}}
	_, stop := svc.hear(t.Context(), e)
	stop()
	assert.Regexp(t, `^http://127\.0\.0\.2:\d+/vega$`, told.url)
}

// pushes is a site that notes where it is to send its notices.
type pushes struct {
	site.Site
	url string
}

func (p *pushes) Push(_ context.Context, to site.Sink) (func(context.Context) error, error) {
	p.url = to.URL
	return func(context.Context) error { return nil }, nil
}
