package watch

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/measure"
	"andamio/internal/draw"
	"andamio/internal/service/deployments"
)

// Drawn are the measures of which curves are drawn, in their order.
var Drawn = []string{measure.WholeCores, measure.WholeMemory, measure.WholeAnswers, measure.WholeSlowest, measure.CoresUsed, measure.MemoryUsed, measure.DiskUsed, measure.NetSent, measure.AnswerTime}

// How many points a curve that is drawn has, and how many curves a picture has at most.
const (
	drawnPoints = 180
	mostDrawn   = 60
)

// DrawMeasures draws what was measured of a deployment over the last while, with what is usual, the runs and what went wrong, in every format into a folder, and returns the files' names.
func (svc *Service) DrawMeasures(ctx context.Context, deployment int64, over time.Duration, dir string, now time.Time) ([]string, error) {
	all, err := svc.Overview(ctx, deployment, "", over, drawnPoints, now)
	if err != nil {
		return nil, err
	}
	d, err := svc.deployments.Deployment(ctx, deployment)
	if err != nil {
		return nil, err
	}
	measures, err := svc.measures(ctx)
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(all, func(a, b Overview) int { return -strings.Compare(string(a.Kind), string(b.Kind)) }) // machines before what answers on them
	var curves []draw.Curve
	reads := newReader(measures)
	for i := range all {
		o := &all[i]
		if len(curves) < mostDrawn {
			if err := usual(ctx, reads, o, over, now); err != nil {
				return nil, err
			}
		}
		for _, name := range drawn(o) {
			if l := o.Line(name); l != nil && len(curves) < mostDrawn {
				curves = append(curves, draw.Described(&o.Thing, name, l.Points, l.Limit, l.Usual))
			}
		}
	}
	if len(curves) == 0 {
		return nil, fault.NotFoundf("nothing of %s was measured in that time", d.Name)
	}
	happened, err := svc.happened(ctx, d, now.Add(-over))
	if err != nil {
		return nil, err
	}
	pic := draw.Curves(d.Name+": what is measured", spanWords(now.Add(-over), now), curves, happened)
	var files []string
	for _, format := range draw.Formats {
		file := filepath.Join(dir, strings.Map(plainly, d.Name)+"-measures."+format)
		if err := deployments.WritePicture(pic, file, format); err != nil {
			return files, err
		}
		files = append(files, file)
	}
	return files, nil
}

// spanWords say a span of time.
func spanWords(from, to time.Time) string {
	return fmt.Sprintf("%s to %s", from.Local().Format("2 Jan 2006 15:04"), to.Local().Format("2 Jan 15:04"))
}

// drawn are the measures of a thing of which curves are drawn: those that say the most, and what software tells of itself.
func drawn(o *Overview) []string {
	out := slices.Clone(Drawn)
	for i := range o.Lines {
		if name := o.Lines[i].Name; !measure.Known(name) {
			out = append(out, name)
		}
	}
	return out
}

// plainly has what belongs into no name of a file be a stroke.
func plainly(r rune) rune {
	if r == '/' || r == '\\' || r == '.' || r < ' ' {
		return '-'
	}
	return r
}

// happened are the runs of a deployment since a time, and what went wrong with it.
func (svc *Service) happened(ctx context.Context, d *deployments.Deployment, since time.Time) ([]draw.Happened, error) {
	var out []draw.Happened
	for _, r := range d.Runs {
		if r.Created.After(since) {
			out = append(out, draw.Happened{At: r.Created, What: fmt.Sprintf("run %d", r.ID)})
		}
	}
	alerts, err := svc.store.AlertsSince(ctx, since, mostOld)
	if err != nil {
		return nil, err
	}
	for i := range alerts {
		if a := &alerts[i]; slices.Contains(a.Deployments, d.ID) {
			out = append(out, draw.Happened{At: a.Since, What: fmt.Sprintf("alert %d", a.ID), Bad: true})
		}
	}
	return out, nil
}
