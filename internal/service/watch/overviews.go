package watch

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/measure"
	"andamio/internal/core/printable"
	"andamio/internal/draw"
	"andamio/internal/service/deployments"
	"andamio/internal/service/workspace"
)

// Pick is one curve: a measure of a thing, by its key.
type Pick struct {
	Thing   string `json:"thing"`
	Measure string `json:"measure"`
}

// Kept is an overview of one's own: curves that somebody wants to see beside each other.
type Kept struct {
	Name  string `json:"name"`
	Picks []Pick `json:"curves"`
	// Over is how long curves are of, in seconds.
	Over int64 `json:"seconds"`
}

// MostPicks is how many curves stand beside each other at most.
const MostPicks = 24

// Overviews are those that are kept, by their names.
func (svc *Service) Overviews(context.Context) ([]string, error) {
	if err := svc.desk.Read("what is measured"); err != nil {
		return nil, err
	}
	return svc.workspace.Overviews()
}

// KeptOverview is one that is kept.
func (svc *Service) KeptOverview(_ context.Context, name string) (Kept, error) {
	if err := svc.desk.Read("what is measured"); err != nil {
		return Kept{}, err
	}
	var k Kept
	if err := svc.workspace.ReadOverview(name, &k); err != nil {
		return Kept{}, err
	}
	k.Name = name
	return k, nil
}

// KeepOverview keeps curves under a name, in the place of those that were kept under it.
func (svc *Service) KeepOverview(ctx context.Context, k Kept) error {
	if err := workspace.CheckOverviewName(k.Name); err != nil {
		return err
	}
	switch {
	case len(k.Picks) == 0:
		return fault.Invalidf("an overview is of at least one curve")
	case len(k.Picks) > MostPicks:
		return fault.Invalidf("an overview is of %d curves at most, and this would be of %d", MostPicks, len(k.Picks))
	case k.Over < int64(measure.Raw.Step().Seconds()):
		return fault.Invalidf("an overview is of %s at least", measure.Raw.Step())
	}
	return svc.desk.Do(ctx, guard.KeepOverview, guard.Named(k.Name), func() error { return svc.workspace.KeepOverview(k.Name, k) })
}

// DropOverview keeps one no longer.
func (svc *Service) DropOverview(ctx context.Context, name string) error {
	return svc.desk.Do(ctx, guard.DropOverview, guard.Named(name), func() error { return svc.workspace.DropOverview(name) })
}

// Picked are curves of things of any deployment and site over the last while, in so many points, each with what is usual: one for each that was picked, with no line where nothing was measured in
// that time, and with no name where the thing is not known any more. What the actor may not see is an error.
func (svc *Service) Picked(ctx context.Context, picks []Pick, over time.Duration, points int, now time.Time) ([]Overview, error) {
	if err := svc.desk.Read("what is measured"); err != nil {
		return nil, err
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return nil, err
	}
	all, err := measures.Things(ctx)
	if err != nil {
		return nil, err
	}
	from, to, step := grid(over, points, now)
	reads := newReader(measures)
	out := make([]Overview, len(picks))
	for i, p := range picks {
		at := slices.IndexFunc(all, func(t measure.Thing) bool { return t.Key == p.Thing })
		if at < 0 {
			out[i].Key = p.Thing
			continue
		}
		if err := svc.desk.See(ctx, thingOf(all[at])); err != nil {
			return nil, err
		}
		if out[i], err = picked(ctx, reads, all[at], p.Measure, from, to, step); err != nil {
			return nil, err
		}
		if err := usual(ctx, reads, &out[i], over, now); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// picked is one measure of a thing.
func picked(ctx context.Context, reads *reader, t measure.Thing, name string, from, to time.Time, step time.Duration) (Overview, error) {
	o := Overview{Thing: t}
	rows, err := reads.rows(ctx, t.ID, from, to, step)
	if err != nil {
		return o, err
	}
	l := Line{Name: name}
	if l.Points, err = measure.Curve(rows, name, from, to, step); err != nil {
		return o, err
	}
	if !l.last() {
		return o, nil
	}
	if limit := measure.Of(name).Limit; limit != "" {
		has := Line{Name: limit}
		if has.Points, err = measure.Curve(rows, limit, from, to, step); err != nil {
			return o, err
		}
		has.last()
		l.Limit = has.Now
	}
	o.Lines = []Line{l}
	return o, nil
}

// DrawOverview draws curves that were picked beside each other, in every format into a folder, and returns the files' names.
func (svc *Service) DrawOverview(ctx context.Context, k Kept, dir string, now time.Time) ([]string, error) {
	over := time.Duration(k.Over) * time.Second
	all, err := svc.Picked(ctx, k.Picks, over, drawnPoints, now)
	if err != nil {
		return nil, err
	}
	var curves []draw.Curve
	for i := range all {
		for _, l := range all[i].Lines {
			curves = append(curves, draw.Described(&all[i].Thing, l.Name, l.Points, l.Limit, l.Usual))
		}
	}
	if len(curves) == 0 {
		return nil, fault.NotFoundf("nothing of it was measured in that time")
	}
	pic := draw.Curves(printable.Clean(k.Name), spanWords(now.Add(-over), now), curves, nil)
	var files []string
	for _, format := range draw.Formats {
		file := filepath.Join(dir, strings.Map(plainly, printable.Clean(k.Name))+"."+format)
		if err := deployments.WritePicture(pic, file, format); err != nil {
			return files, err
		}
		files = append(files, file)
	}
	return files, nil
}
