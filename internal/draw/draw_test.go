package draw

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/elevation"
	"andamio/internal/core/ledger"
	"andamio/internal/core/money"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/promise"
	"andamio/internal/core/run"
)

func write(t *testing.T, p *Picture, format string) string {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, p.Write(&out, format))
	return out.String()
}

// wellFormed reads SVG to its end and returns its text.
func wellFormed(t *testing.T, svg string) string {
	t.Helper()
	var text strings.Builder
	for dec := xml.NewDecoder(strings.NewReader(svg)); ; {
		token, err := dec.Token()
		if err == io.EOF {
			return text.String()
		}
		require.NoError(t, err)
		if chars, ok := token.(xml.CharData); ok {
			text.Write(chars)
			text.WriteByte('\n')
		}
	}
}

func TestElevationNamesEverything(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	text := wellFormed(t, write(t, Elevation(s, elevation.BySite), "svg"))
	for _, site := range s.Plan.Sites {
		assert.Contains(t, text, site.Name)
	}
	for _, r := range s.Plan.Resources {
		if r.PartOf == "" {
			assert.Contains(t, text, r.Title)
		}
	}
	assert.Contains(t, text, "critical path")
	byService := wellFormed(t, write(t, Elevation(s, elevation.ByService), "svg"))
	assert.Contains(t, byService, "alerting")
}

func TestLargeElevationsGroup(t *testing.T) {
	s := run.New(plantest.Plan(t, "storm-season"))
	text := wellFormed(t, write(t, Elevation(s, elevation.BySite), "svg"))
	assert.Contains(t, text, "forecast-host 24", "as long as it is readable every instance has its plank")
}

func TestTimelineHasLanesAndNow(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	begun := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	s.Apply(run.Event{Seq: 1, At: begun, Kind: run.RunStarted})
	text := wellFormed(t, write(t, Timeline(s, begun.Add(5*time.Second)), "svg"))
	for _, want := range []string{"networks", "instances", "alert-dispatch", "now", "forecast"} {
		assert.Contains(t, text, want)
	}
}

func TestPDFIsPDF(t *testing.T) {
	for _, p := range []*Picture{Elevation(run.New(plantest.Plan(t, "drill")), elevation.BySite), Timeline(run.New(plantest.Plan(t, "drill")), time.Now())} {
		pdf := write(t, p, "pdf")
		assert.True(t, strings.HasPrefix(pdf, "%PDF-"))
		assert.Contains(t, pdf[len(pdf)-32:], "%%EOF")
	}
	assert.ErrorContains(t, Timeline(run.New(plantest.Plan(t, "drill")), time.Now()).Write(io.Discard, "gif"), "svg or pdf")
}

// TestAnAccountIsDrawn draws more lines than have a colour, and one that is nobody's.
func TestAnAccountIsDrawn(t *testing.T) {
	from := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	var all []ledger.Entry
	for i := range 8 {
		all = append(all, ledger.Entry{Charge: ledger.Charge{Kind: "instance", PerHour: money.Of(float64(i)), From: from}, Name: fmt.Sprintf("life-%d", i)})
	}
	all[3].Name = ""
	a := ledger.Sum(all, ledger.Query{From: from, To: from.AddDate(0, 0, 20), By: "deployment", Every: ledger.Daily}, "cr", nil)
	for _, format := range Formats {
		var out bytes.Buffer
		require.NoError(t, Account(a).Write(&out, format))
		assert.NotEmpty(t, out.Bytes())
		if format == "svg" {
			text := wellFormed(t, out.String())
			for _, want := range []string{"13440.00 cr, by deployment", "life-7 3360.00", "nobody's 1440.00", "others 1440.00", "19 Nov"} {
				assert.Contains(t, text, want)
			}
		}
	}
}

// TestAReportOfPromisesIsDrawn draws promises that were kept, late and broken, none, and more than there is room for.
func TestAReportOfPromisesIsDrawn(t *testing.T) {
	from := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	r := &promise.Report{From: from, To: from.AddDate(0, 0, 30)}
	look := func() string {
		assert.True(t, strings.HasPrefix(write(t, Promises(r), "pdf"), "%PDF-"))
		return wellFormed(t, write(t, Promises(r), "svg"))
	}
	assert.Contains(t, look(), "nothing was due")
	var marks []promise.Mark
	for n := range 30 {
		marks = append(marks, promise.Mark{At: from.AddDate(0, 0, n), State: []promise.State{promise.Kept, promise.Kept, promise.Late, promise.Broken, promise.Going}[n%5]})
	}
	for range mostPromises + 2 {
		r.Lines = append(r.Lines, promise.Line{Name: "flood-watch\x1b[31m", Level: "levee", Words: "saved every day 02:00, 7 kept", Marks: marks, Kept: 12, Late: 6, Broken: 6})
	}
	text := look()
	assert.Contains(t, text, "saved every day 02:00, 7 kept (levee)")
	assert.Contains(t, text, "and 2 more promises")
	assert.NotContains(t, text, "\x1b")
}
