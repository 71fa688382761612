package watch

import (
	"cmp"
	"context"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"

	"andamio/internal/core/alarm"
	"andamio/internal/core/measure"
)

// namePrefix begins the name of each metric.
const namePrefix = "andamio_"

// WriteOpenMetrics writes what was measured last of everything that the actor may see, and the alerts that go on, as OpenMetrics text (OpenMetrics 1.0), in the order of the catalogue.
func (svc *Service) WriteOpenMetrics(ctx context.Context, w io.Writer, now time.Time) error {
	all, err := svc.Measured(ctx, 0)
	if err != nil {
		return err
	}
	figures, err := svc.Figures(ctx, all, now)
	if err != nil {
		return err
	}
	families := map[string]*dto.MetricFamily{}
	for _, t := range all {
		for _, l := range figures[t.Key] {
			f := families[l.Name]
			if f == nil {
				f = family(l.Name)
				families[l.Name] = f
			}
			f.Metric = append(f.Metric, &dto.Metric{Label: labels(&t), Gauge: &dto.Gauge{Value: &l.Value}, TimestampMs: new(l.At.UnixMilli())})
		}
	}
	alerts, err := svc.Alerts(ctx)
	if err != nil {
		return err
	}
	out := expfmt.NewEncoder(w, expfmt.NewFormat(expfmt.TypeOpenMetrics))
	for _, m := range measure.Catalogue {
		if f := families[m.Name]; f != nil {
			if err := out.Encode(f); err != nil {
				return err
			}
		}
	}
	if f := alertFamily(alerts); len(f.Metric) > 0 {
		if err := out.Encode(f); err != nil {
			return err
		}
	}
	if end, is := out.(expfmt.Closer); is {
		return end.Close()
	}
	return nil
}

// family is that of a measure, with its unit at the end of its name as the standard asks.
func family(name string) *dto.MetricFamily {
	m := measure.Of(name)
	f := &dto.MetricFamily{Name: new(namePrefix + name), Help: new(string(m.Of) + ": " + m.Words), Type: dto.MetricType_GAUGE.Enum()}
	if m.Unit == measure.Bytes || m.Unit == measure.Seconds || m.Unit == measure.BytesPerSecond {
		f.Name, f.Unit = new(namePrefix+name+"_"+string(m.Unit)), new(string(m.Unit))
	}
	return f
}

// odd is what no label may have in its name.
var odd = regexp.MustCompile(`[^a-zA-Z0-9_]`)

// labels are what is known of a thing, by name.
func labels(t *measure.Thing) []*dto.LabelPair {
	known := map[string]string{"kind": string(t.Kind), "name": t.Name, "site": t.Site, "deployment": t.Of, "tier": t.Tier, "service": t.Service, "team": t.Team, "host": t.Host, "zone": t.Zone, "key": t.Key}
	for tag, v := range t.Tags {
		known["tag_"+odd.ReplaceAllString(tag, "_")] = v
	}
	var out []*dto.LabelPair
	for _, name := range slices.Sorted(maps.Keys(known)) {
		if v := known[name]; v != "" {
			out = append(out, &dto.LabelPair{Name: new(name), Value: new(strings.ToValidUTF8(v, "�"))})
		}
	}
	return out
}

// alertFamily has an alert that goes on be 1, with its cause.
func alertFamily(all []alarm.Alert) *dto.MetricFamily {
	f := &dto.MetricFamily{Name: new(namePrefix + "alert"), Help: new("alerts that go on, each cause once"), Type: dto.MetricType_GAUGE.Enum()}
	for i := range all {
		a := &all[i]
		var pairs []*dto.LabelPair
		for _, l := range [][2]string{{"cause", a.Title()}, {"deployment", a.Of}, {"severity", a.Severity.String()}, {"site", a.Site}} {
			if l[1] != "" {
				pairs = append(pairs, &dto.LabelPair{Name: new(l[0]), Value: new(strings.ToValidUTF8(l[1], "�"))})
			}
		}
		f.Metric = append(f.Metric, &dto.Metric{Label: pairs, Gauge: &dto.Gauge{Value: new(1.0)}})
	}
	slices.SortStableFunc(f.Metric, func(a, b *dto.Metric) int { return cmp.Compare(a.String(), b.String()) })
	return f
}
