package engine_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/change"
	"andamio/internal/core/kinds"
	"andamio/internal/core/ovf"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/site"
)

const (
	mib = 1 << 20
	gib = 1 << 30
)

// parcel is a package with two disks, some of whose parts hold something, and one of these nothing but zeros.
type parcel struct {
	file   string
	digest string
	size   int64
	// holds is what is at an offset of each disk.
	holds [2]map[int64][]byte
}

func newParcel(t *testing.T) *parcel {
	t.Helper()
	x := &parcel{file: filepath.Join(t.TempDir(), "well.ova")}
	rng := rand.New(rand.NewPCG(7, 7))
	var sources []ovf.Source
	for i := range x.holds {
		x.holds[i] = map[int64][]byte{}
		var held []ovf.Extent
		for _, at := range []int64{0, 64 << 10, 5 * mib, int64(i+2) * 100 * mib} {
			block := make([]byte, 64<<10)
			if at != 5*mib { // which is all zeros
				for j := range block {
					block[j] = byte(rng.Uint32())
				}
			}
			x.holds[i][at] = block
			held = append(held, ovf.Extent{Offset: at, Length: 64 << 10})
		}
		sources = append(sources, ovf.Source{Held: held, Read: func(p []byte, off int64) error {
			for n := 0; n < len(p); n += 64 << 10 {
				copy(p[n:], x.holds[i][off+int64(n)])
			}
			return nil
		}})
	}
	spool, err := os.CreateTemp(t.TempDir(), "spool")
	require.NoError(t, err)
	defer spool.Close()
	var out bytes.Buffer
	p := ovf.Package{Name: "well", Hostname: "well", Cores: 1, MemoryGiB: 1, OS: "linux", Disks: []ovf.Disk{{Name: "system", Bytes: 4 * gib}, {Name: "depths", Bytes: 1 * gib, Location: "/srv"}}, Networks: []string{"lan"}}
	require.NoError(t, ovf.Write(&out, p, sources, spool, time.Unix(1e9, 0)))
	require.NoError(t, os.WriteFile(x.file, out.Bytes(), 0o600))
	sum := sha256.Sum256(out.Bytes())
	x.digest, x.size = hex.EncodeToString(sum[:]), int64(out.Len())
	return x
}

// filling is the plan that builds a machine asleep, fills its disks from a package, which is lifted to the site before or not, and switches it on.
func (x *parcel) filling(lift bool) *plan.Plan {
	p := &plan.Plan{Version: plan.Version, Name: "well", Currency: "cr", Purpose: "fill", Inputs: map[string]any{}, Services: []plan.Service{}, Scripts: map[string]string{},
		Sites: []plan.Site{{Name: "vega", Kind: "private", Title: "vega"}}}
	thing := func(id string, kind kinds.Kind, spec plan.Spec) {
		p.Resources = append(p.Resources, plan.Resource{ID: id, Node: id, Title: id, Kind: kind, Site: "vega", Zone: "a", Spec: spec})
	}
	step := func(s plan.Step, after ...string) {
		s.ID, s.Site, s.Seconds, s.After = s.Op.For(s.Resource, s.Volume), "vega", 0.1, after
		s.Title, s.Check = string(s.Op), plan.Condition{Kind: plan.CheckSite}
		p.Steps = append(p.Steps, s)
	}
	thing("depths", kinds.Volume, plan.VolumeSpec{DiskGiB: 1, Label: "depths"})
	thing("well", kinds.Instance, plan.InstanceSpec{Hostname: "well", Cores: 1, MemoryGiB: 1, DiskGiB: 4, Image: "debian-12", Asleep: true})
	step(plan.Step{Resource: "well", Op: op.Create})
	step(plan.Step{Resource: "depths", Op: op.Create})
	attach := op.Attach.For("well", "depths")
	step(plan.Step{Resource: "well", Op: op.Attach, Volume: "depths", Location: "/srv"}, op.Create.On("well"), op.Create.On("depths"))
	from := &plan.Filling{File: x.file, SHA256: x.digest, Bytes: x.size}
	fill := plan.Step{Resource: "well", Op: op.Fill, Filling: &plan.Filling{File: x.file, SHA256: x.digest, Bytes: x.size, Disks: []string{"well", "depths"}}}
	if lift {
		thing("box", kinds.Object, plan.NoSpec{})
		step(plan.Step{Resource: "box", Op: op.Create, Filling: from})
		fill.Filling.Object = "box"
		step(fill, attach, op.Create.On("box"))
	} else {
		step(fill, attach)
	}
	return plan.Reindexed(p)
}

// holdsAll holds that the disks at the site have what the package has.
func (x *parcel) holdsAll(s *stage, known func(resource string) string) {
	s.Helper()
	disks, ok := site.Can[site.Disks](s.Context(), s.sites["vega"])
	require.True(s, ok)
	for i, resource := range []string{"well", "depths"} {
		for at, want := range x.holds[i] {
			got, err := disks.ReadDisk(s.Context(), known(resource), site.Extent{Offset: at, Length: int64(len(want))})
			require.NoError(s, err)
			assert.True(s, bytes.Equal(want, got), "%s at %d", resource, at)
		}
		got, err := disks.ReadDisk(s.Context(), known(resource), site.Extent{Offset: 400 * mib, Length: 4096})
		require.NoError(s, err)
		assert.Equal(s, make([]byte, 4096), got)
	}
}

// TestDisksAreFilledFromAPackage fills the disks of a machine from a package, by us or by the site, once more after it broke off, and says how much was written.
func TestDisksAreFilledFromAPackage(t *testing.T) {
	t.Parallel()
	for name, lift := range map[string]bool{"written by us": false, "unpacked by the site": true} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, x := newStage(t), newParcel(t)
			p := x.filling(lift)
			require.NoError(t, p.Arrange())
			s.stand = change.Nothing(p)
			state := s.does(p)
			id := func(resource string) string { return state.Resource(resource).Attributes["site.id"] }
			x.holdsAll(s, id)
			said := printedBy(state.Step(op.Fill.On("well")))
			if lift {
				assert.Contains(t, said, "unpacked to depths by the site")
				assert.Contains(t, printedBy(state.Step(op.Create.On("box"))), "bytes lifted")
			} else {
				assert.Contains(t, said, "196608 bytes written to well")
				assert.Contains(t, said, "196608 bytes written to depths")
			}
			s.to(change.Nothing(s.stand.Plan).Plan, "retire")
			assert.Empty(t, s.box.Holds())
		})
	}
}

// TestAPackageIsTheOneThatWasLookedAt refuses one that is another by now, is gone, or is none, and says so; nothing is written of it.
func TestAPackageIsTheOneThatWasLookedAt(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		spoil func(t *testing.T, x *parcel)
		why   string
	}{
		"another": {func(t *testing.T, x *parcel) {
			f, err := os.OpenFile(x.file, os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(t, err)
			_, err = f.WriteString("more")
			require.NoError(t, err)
			require.NoError(t, f.Close())
		}, "is not the package that it was when the plan was made"},
		"gone": {func(t *testing.T, x *parcel) { require.NoError(t, os.Remove(x.file)) }, "the package cannot be opened"},
		"none": {func(t *testing.T, x *parcel) {
			text := bytes.Repeat([]byte("river "), 1000)
			require.NoError(t, os.WriteFile(x.file, text, 0o600))
			sum := sha256.Sum256(text)
			x.digest, x.size = hex.EncodeToString(sum[:]), int64(len(text))
		}, ""},
	} {
		for _, lift := range []bool{false, true} {
			if name == "none" && lift {
				continue // the site looks at it, after we had it lifted
			}
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				s, x := newStage(t), newParcel(t)
				if name == "none" {
					c.spoil(t, x)
				}
				p := x.filling(lift)
				if name != "none" {
					c.spoil(t, x)
				}
				require.NoError(t, p.Arrange())
				state, err := s.tries(p, nil)
				require.ErrorIs(t, err, engine.ErrUnfinished)
				st := state.Step(op.Fill.On("well"))
				if lift {
					st = state.Step(op.Create.On("box"))
				}
				require.Equal(t, run.Failed, st.Status)
				assert.Contains(t, st.Error, c.why)
				assert.Zero(t, st.Retries, "it does not become the right one")
			})
		}
	}
}

// TestLiftingGoesOnWhereItWas breaks a run off while a package is lifted: the next one lifts what is missing.
func TestLiftingGoesOnWhereItWas(t *testing.T) {
	t.Parallel()
	s, x := newStage(t), newParcel(t)
	p := x.filling(true)
	require.NoError(t, p.Arrange())
	s.stand = change.Nothing(p)
	j := &journal{}
	ctx, cancel := context.WithCancel(t.Context())
	j.heard = func(e run.Event) {
		if e.Kind == run.StepAsked && e.Resource == "box" {
			cancel()
		}
	}
	s.n++
	require.ErrorIs(t, s.engineOf(p, j).Execute(ctx), engine.ErrUnfinished)
	j.heard = nil
	e := s.engineOf(p, j)
	e.State = run.New(p)
	for _, x := range j.events {
		e.State.Apply(x)
	}
	require.NoError(t, e.Execute(t.Context()))
	state := run.New(p)
	for _, x := range j.events {
		state.Apply(x)
	}
	require.Equal(t, run.Standing, state.Status)
	x.holdsAll(s, func(resource string) string { return state.Resource(resource).Attributes["site.id"] })
	assert.Equal(t, 1, s.held("object"), "it was not lifted to another place")
}
