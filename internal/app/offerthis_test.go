package app

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/offer"
	"andamio/internal/core/tosca"
	"andamio/internal/service/requests"
	"andamio/internal/service/templates"
	"andamio/internal/source"
)

// TestATemplateIsOffered makes an offer of a template in a folder, sees it as somebody would, publishes it, and has it asked for.
func TestATemplateIsOffered(t *testing.T) {
	t.Parallel()
	a, as := asking(t)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Join(offersDir, "map"))))
	tmpl, err := templates.OpenTemplate(ctx, source.Place{Path: dir})
	require.NoError(t, err)
	changed := tosca.Inputs{}
	for name, text := range map[string]string{"memory": "2 GiB", "cores": "2"} {
		v, diags := tosca.ParseInput(name, text)
		require.Zero(t, diags.Errors())
		changed[name] = v
	}
	_, err = a.OfferThis(ctx, "Small Map", tmpl, "", nil, t.TempDir())
	assert.Equal(t, fault.Invalid, fault.CodeOf(err))
	_, err = a.OfferThis(ctx, "small-map", tmpl, "no-such", nil, t.TempDir())
	require.ErrorContains(t, err, "no-such")
	f, err := a.OfferThis(ctx, "small-map", tmpl, "", changed, t.TempDir())
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "offers", "small-map.yaml"), f.Path, "it is beside its template")
	for path, want := range map[string]os.FileMode{f.Path: 0o644, filepath.Dir(f.Path): 0o755} {
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, want, info.Mode().Perm(), "whoever reads the template reads its offers")
	}
	assert.Equal(t, map[string]any{"memory": "2 GiB", "cores": 2.0}, f.Offer.Inputs)
	assert.Equal(t, []any{"ana", 8, true, 0}, []any{f.Offer.Audience[0], f.Report.Tried, f.Report.Whole, len(f.Report.Failed)})
	_, err = a.OfferThis(ctx, "small-map", tmpl, "", nil, t.TempDir())
	assert.Equal(t, fault.Conflict, fault.CodeOf(err), "nothing is written over")
	_, err = as("eva").OfferThis(ctx, "other-map", tmpl, "", nil, t.TempDir())
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
	_, err = os.Stat(filepath.Join(dir, "offers", "other-map.yaml"))
	assert.ErrorIs(t, err, os.ErrNotExist)

	before := requests.Asked{Offer: "small-map", Answers: offer.Answers{"fronts": "2"}, Before: &f.Offer}
	seen, err := as("ibo").Foresee(ctx, before)
	require.NoError(t, err)
	assert.Equal(t, []any{"small-map-1", 2, ""}, []any{seen.Name, seen.Quote.Size.Instances, seen.Over}, "as if it were published")
	assert.NotEmpty(t, seen.Left)
	_, err = as("ibo").AskFor(ctx, before)
	assert.Equal(t, fault.Conflict, fault.CodeOf(err), "it is looked at only")
	_, err = as("ibo").AskFor(ctx, requests.Asked{Offer: "small-map"})
	assert.Equal(t, fault.NotFound, fault.CodeOf(err))

	text, err := os.ReadFile(f.Path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(f.Path, append(text, "audience: nobody\n"...), 0o600))
	broken, err := a.OfferFile(ctx, f.Path)
	require.Error(t, err)
	assert.Equal(t, f.Path, broken.Path, "which file it is stays known")
	require.NoError(t, os.WriteFile(f.Path, []byte(strings.Replace(string(text), "- ana", `- "team:public-map"`, 1)), 0o600))
	f, err = a.OfferFile(ctx, f.Path)
	require.NoError(t, err)
	text, err = os.ReadFile(f.Path)
	require.NoError(t, err)
	_, _, err = a.Publish(ctx, text, filepath.Dir(f.Path))
	require.NoError(t, err)
	r, err := as("ibo").AskFor(ctx, requests.Asked{Offer: "small-map", Answers: offer.Answers{"fronts": "2"}})
	require.NoError(t, err)
	assert.Equal(t, "small-map-1", r.Name)
}
