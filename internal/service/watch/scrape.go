package watch

import (
	"context"
	"errors"
	"io"
	"maps"
	"math"
	"mime"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	metric "github.com/prometheus/prometheus/model/labels"
	"github.com/prometheus/prometheus/model/textparse"

	"andamio/internal/core/measure"
	"andamio/internal/core/printable"
	"andamio/internal/reach"
	"andamio/internal/web"
)

// Bounds of what software may tell of itself: how much text, how many figures, how long a name.
const (
	scrapeMost    = 4 << 20
	figuresMost   = 200
	seriesNameMax = 200
)

// scraper asks software for its figures. It follows nobody elsewhere.
var scraper = web.Client(askWithin, scraping())

// scraping connects to machines as the context says. No connection is kept: those of two sites may have the same address.
func scraping() http.RoundTripper {
	t := web.Transport(nil)
	t.DialContext, t.DisableKeepAlives, t.Proxy = reach.Dial, true, nil
	return t
}

// counters are what counters stood at, by thing and name, so that it is known how fast they go.
type counters struct {
	mu sync.Mutex
	of map[string]map[string]counted
}

// counted is what a counter stood at.
type counted struct {
	at time.Time
	v  float64
}

// scrape asks software for its figures. Whether it tells them is whether it answers there.
func (svc *Service) scrape(ctx context.Context, p *probe, r *round, now time.Time) {
	series, err := scraped(ctx, "http://"+p.Where+p.Check.Path)
	if err != nil {
		r.worst(p.thing, measure.Answers, 0, math.Min)
		r.say(p.thing, "it tells no figures: "+err.Error(), false)
		return
	}
	r.worst(p.thing, measure.Answers, 1, math.Min)
	r.say(p.thing, "it tells figures", true)
	for name, v := range svc.memory.counters.rates(p.thing, series, now) {
		r.put(p.thing, name, v)
	}
}

// series is one that software tells of.
type series struct {
	name  string
	value float64
	// counts says that it only goes up, so that how fast it does is what tells something.
	counts bool
}

// scraped reads a page of figures: OpenMetrics text, or the text that it came from where the page says so.
func scraped(ctx context.Context, url string) ([]series, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "application/openmetrics-text;version=1.0.0;q=1,text/plain;version=0.0.4;q=0.5")
	resp, err := scraper.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, errors.New("it answered " + resp.Status)
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, scrapeMost+1))
	if err != nil {
		return nil, err
	}
	if len(body) > scrapeMost {
		return nil, errors.New("its page of figures is larger than 4 MiB")
	}
	return parsed(body, resp.Header.Get("Content-Type"))
}

// parsed are the series of a page: gauges as they are, counters, and of histograms and summaries how often and how much. A page of which no figure can be read is
// an error, and what comes after a mistake is left out.
func parsed(body []byte, contentType string) ([]series, error) {
	p, err := parserOf(body, contentType)
	if err != nil {
		return nil, err
	}
	var out []series
	kinds := map[string]string{}
	for len(out) < figuresMost {
		entry, err := p.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			if len(out) > 0 {
				return out, nil
			}
			return nil, errors.New("its figures cannot be read: " + printable.Clean(err.Error()))
		}
		switch entry {
		case textparse.EntryType:
			name, kind := p.Type()
			kinds[string(name)] = string(kind)
		case textparse.EntrySeries:
			if s, worth := seriesOf(p, kinds); worth {
				out = append(out, s)
			}
		}
	}
	return out, nil
}

// parserOf reads OpenMetrics where the page says that it is, or ends as that does.
func parserOf(body []byte, contentType string) (textparse.Parser, error) {
	kind, _, err := mime.ParseMediaType(contentType)
	if err != nil || kind != "application/openmetrics-text" {
		contentType = "text/plain; version=0.0.4"
		if strings.HasSuffix(strings.TrimSpace(string(body[max(len(body)-64, 0):])), "# EOF") {
			contentType = "application/openmetrics-text; version=1.0.0"
		}
	}
	return textparse.New(body, contentType, metric.NewSymbolTable(), textparse.ParserOptions{})
}

// seriesOf is the series that a parser is at. Buckets, quantiles and when something was created are left out: there are many, and how often and how much says most.
func seriesOf(p textparse.Parser, kinds map[string]string) (series, bool) {
	_, _, v := p.Series()
	var of metric.Labels
	p.Labels(&of)
	name := of.Get(nameLabel)
	base, suffix := name, ""
	for _, s := range []string{"_total", "_count", "_sum", "_bucket", "_created", "_info"} {
		if b, has := strings.CutSuffix(name, s); has && kinds[b] != "" {
			base, suffix = b, s
		}
	}
	kind := kinds[base]
	switch {
	case suffix == "_bucket", suffix == "_created", kind == "summary" && suffix == "", kind == "info", math.IsNaN(v), math.IsInf(v, 0):
		return series{}, false
	}
	counts := kind == "counter" || suffix == "_count" || suffix == "_sum" || kind == "" && strings.HasSuffix(name, "_total")
	if counts {
		name = strings.TrimSuffix(name, "_total") + "_per_second"
	}
	full := named(name, of)
	return series{full, v, counts}, name != "" && len(full) <= seriesNameMax
}

// named is a name with its labels, as the text has them.
func named(name string, of metric.Labels) string {
	rest := of.MatchLabels(false, nameLabel)
	if rest.IsEmpty() {
		return printable.Clean(name)
	}
	return printable.Clean(name + rest.String())
}

// ownLabels are the labels of a series that software told, with its name, from how it is kept.
func ownLabels(name string) map[string]string {
	out := map[string]string{nameLabel: name}
	p, err := parserOf([]byte(name+" 0\n"), "text/plain")
	if err != nil {
		return out
	}
	if entry, err := p.Next(); err != nil || entry != textparse.EntrySeries {
		return out
	}
	var of metric.Labels
	p.Labels(&of)
	return of.Map()
}

// rates are the figures of a thing, counters by how fast they go since they were asked before. One that begins anew tells nothing until the next time.
func (c *counters) rates(thing string, all []series, now time.Time) map[string]float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of == nil {
		c.of = map[string]map[string]counted{}
	}
	before, then, out := c.of[thing], map[string]counted{}, map[string]float64{}
	for _, s := range all {
		if !s.counts {
			out[s.name] = s.value
			continue
		}
		then[s.name] = counted{now, s.value}
		was, known := before[s.name]
		if past := now.Sub(was.at).Seconds(); known && past > 0 && s.value >= was.v {
			out[s.name] = (s.value - was.v) / past
		}
	}
	c.of[thing] = then
	return out
}

// forget has counters of things be no more that are not there any more.
func (c *counters) forget(k *known) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, thing := range slices.Collect(maps.Keys(c.of)) {
		if k.things[thing] == nil {
			delete(c.of, thing)
		}
	}
}
