package part

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"andamio/internal/core/elevation"
	"andamio/internal/core/plan/plantest"
	"andamio/internal/core/run"
	"andamio/internal/core/timeline"
)

func look() *Look { return NewLook(false, false, colorprofile.TrueColor) }

// plainText is a canvas without its colours, lines trimmed.
func plainText(c *Canvas) string {
	lines := strings.Split(ansi.Strip(c.String()), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n")
}

func TestCanvasCutsAtItsEdges(t *testing.T) {
	c := NewCanvas(look(), 8, 3)
	c.Text(-2, 0, In(Text), "abcdef")
	c.Text(6, 1, In(Text), "xyz")
	c.Text(0, 9, In(Text), "below")
	c.Cut(0, 2, 5, In(Text), "riverbank")
	assert.Equal(t, "cdef\n      xy\nrive…", plainText(c))
	in := c.Clip(Rect{2, 0, 3, 3})
	in.Fill(Rect{0, 0, 9, 9}, Panel)
	in.Across(0, 0, 9, In(Steel), '-')
	assert.Equal(t, "cd---\n      xy\nri", plainText(c))
}

func TestCanvasMakesTextPrintable(t *testing.T) {
	c := NewCanvas(look(), 20, 1)
	c.Text(0, 0, In(Text), "a\x1b[31mb\x1b]0;t\x07c\nd\u202e")
	assert.Equal(t, "abc d", plainText(c))
}

func TestWideAndCombiningCharacters(t *testing.T) {
	c := NewCanvas(look(), 6, 2)
	end := c.Text(0, 0, In(Text), "水位x")
	assert.Equal(t, 5, end)
	c.Text(5, 1, In(Text), "水")
	c.Text(0, 1, In(Text), "n\u0303o")
	lines := strings.Split(ansi.Strip(c.String()), "\n")
	assert.Equal(t, "水位x ", lines[0])
	assert.Equal(t, 6, ansi.StringWidth(lines[1]), "half a wide character is not drawn")
	assert.True(t, strings.HasPrefix(lines[1], "n\u0303o"))
}

func TestEveryLineIsAsWideAsTheCanvas(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w, h := rapid.IntRange(1, 40).Draw(t, "w"), rapid.IntRange(1, 6).Draw(t, "h")
		c := NewCanvas(look(), w, h)
		for range rapid.IntRange(0, 12).Draw(t, "texts") {
			c.Text(rapid.IntRange(-5, 45).Draw(t, "x"), rapid.IntRange(-1, 7).Draw(t, "y"), In(Text), rapid.String().Draw(t, "text"))
		}
		lines := strings.Split(c.String(), "\n")
		if len(lines) != h {
			t.Fatalf("%d lines of %d", len(lines), h)
		}
		for _, l := range lines {
			if got := ansi.StringWidth(l); got > w {
				t.Fatalf("%q is %d wide, not %d", ansi.Strip(l), got, w)
			}
		}
	})
}

func TestColoursForEachTerminal(t *testing.T) {
	draw := func(p colorprofile.Profile) string {
		c := NewCanvas(NewLook(false, false, p), 3, 1)
		c.Text(0, 0, In(Teal).On(OnStanding), "x")
		return c.String()
	}
	assert.Contains(t, draw(colorprofile.TrueColor), "38;2;63;182;168")
	assert.Contains(t, draw(colorprofile.ANSI256), "38;5;73")
	assert.NotContains(t, draw(colorprofile.ANSI256), ";2;", "no colour is left to be guessed")
	assert.NotContains(t, draw(colorprofile.ANSI), "48;", "16 colours have no ground for planks")
	light := NewCanvas(NewLook(true, false, colorprofile.TrueColor), 1, 1).String()
	assert.Contains(t, light, "48;2;251;250;247", "the paper is painted")
}

func TestASCIIIsASCII(t *testing.T) {
	c := NewCanvas(NewLook(false, true, colorprofile.TrueColor), 40, 2)
	c.Text(0, 0, In(Text), "↑↓ 3 × 4 … ñ ≥ x·y")
	assert.Equal(t, "^v 3 x 4 ~ ? > x-y", strings.TrimRight(strings.Split(plainText(c), "\n")[0], " "))
	for s := range map[run.Status]bool{run.Planned: true, run.UnderWay: true, run.Standing: true, run.Failed: true, run.Held: true, run.Stopped: true} {
		assert.Less(t, c.Look.Mark(s), "\x7f")
		assert.NotZero(t, InkOf(s))
		assert.NotZero(t, GroundOf(s))
	}
}

func TestTextHelpers(t *testing.T) {
	assert.Equal(t, "", Shorten("abc", 0))
	assert.Equal(t, []string{"the water", "rises"}, Wrap("the water rises", 10))
	assert.Nil(t, Wrap("x", 0))
	for d, want := range map[time.Duration]string{0: "0s", 48 * time.Second: "48s", 2 * time.Minute: "2m", 130 * time.Second: "2m10s", 64 * time.Minute: "1h04m"} {
		assert.Equal(t, want, Clock(d))
	}
	now := time.Now()
	assert.Equal(t, "", Age(time.Time{}, now))
	assert.Equal(t, "now", Age(now, now))
	assert.Equal(t, "5s ago", Age(now.Add(-5*time.Second), now))
	assert.Equal(t, "forecas… 12", shortTitle("forecast-host 12", 11))
	assert.Equal(t, "forecast-h…", shortTitle("forecast-host-of-old", 11))
}

func drawn(e *Elevation, s *run.State, w, h int) string {
	c := NewCanvas(look(), w, h)
	e.Draw(c, Rect{0, 0, w, h}, s)
	return plainText(c)
}

func TestElevationByZoom(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	e := &Elevation{Selected: "readings-host-1"}
	near := drawn(e, s, 150, 40)
	assert.Equal(t, ZoomPlanks, e.Shown())
	for _, want := range []string{"presa  edge", "▐▱ readings-host", "▱ readings ↥", "app-lan ↧", "▱ forecast 3", "500 GiB", "▀▀▀"} {
		assert.Contains(t, near, want)
	}
	e.Zoom = ZoomGroups
	assert.Contains(t, drawn(e, s, 150, 40), "forecast-host ×3")
	e.Zoom = ZoomBricks
	assert.Contains(t, drawn(e, s, 150, 40), "▱ ▱ ▱ ▱")
	e.Zoom = ZoomDensity
	assert.Contains(t, drawn(e, s, 150, 40), "0 of 4")
	e.Zoom = ZoomFit
	drawn(e, s, 80, 19)
	assert.Equal(t, ZoomGroups, e.Shown(), "less room shows less of each")
	drawn(e, run.New(plantest.Plan(t, "storm-season")), 80, 12)
	assert.Equal(t, ZoomDensity, e.Shown())
	assert.Empty(t, strings.TrimSpace(drawn(e, s, 8, 3)), "no room, no picture, no panic")
	for z := ZoomFit; z < zooms; z++ {
		assert.NotEmpty(t, z.String())
	}
}

func TestElevationScrollsToTheSelected(t *testing.T) {
	s := run.New(plantest.Plan(t, "storm-season"))
	e := &Elevation{Zoom: ZoomPlanks, Selected: "river-map-1"}
	top := drawn(e, s, 120, 20)
	assert.Contains(t, top, "river-map 1")
	assert.Contains(t, top, "rows above")
	e.Selected = "app-lan@vega"
	ground := drawn(e, s, 120, 20)
	assert.Contains(t, ground, "app-lan")
	assert.Contains(t, ground, "52 rows above, 4 below", "a row is brought into view, and no more")
}

func TestArrowsAndMouseFindPlanks(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	e := &Elevation{}
	drawn(e, s, 150, 40)
	e.Move(s, 0, 1)
	assert.Equal(t, First(s), e.Selected, "the first move selects something")
	e.Selected = "readings-host-1"
	for _, m := range []struct {
		dx, dy int
		want   string
	}{{0, 1, "contacts-host-1"}, {0, -1, "readings-host-1"}, {0, -1, "contacts-1"}, {1, 0, "map-server-1"}, {-1, 0, "readings-1"},
		{-1, 0, "readings-1"}, {0, 1, "contacts-1"}, {0, 1, "readings-host-1"}, {1, 0, "forecast-host-1"}, {0, 1, "forecast-host-2"}} {
		e.Move(s, m.dx, m.dy)
		assert.Equal(t, m.want, e.Selected, "%+v", m)
	}
	text := drawn(e, s, 150, 40)
	for y, line := range strings.Split(text, "\n") {
		if i := strings.Index(line, "dispatch-host 1"); i >= 0 {
			assert.Equal(t, "dispatch-host-1", e.At(len([]rune(line[:i])), y))
		}
	}
	assert.Empty(t, e.At(0, 0))
}

func TestEveryPlankCanBeReached(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	rapid.Check(t, func(t *rapid.T) {
		e := &Elevation{Selected: First(s), Zoom: rapid.SampledFrom([]Zoom{ZoomFit, ZoomPlanks, ZoomGroups, ZoomBricks, ZoomDensity}).Draw(t, "zoom")}
		e.By = rapid.SampledFrom([]elevation.By{elevation.BySite, elevation.ByService}).Draw(t, "by")
		w, h := rapid.IntRange(20, 170).Draw(t, "w"), rapid.IntRange(4, 50).Draw(t, "h")
		for range 10 {
			c := NewCanvas(look(), w, h)
			e.Draw(c, Rect{0, 0, w, h}, s)
			e.Move(s, rapid.IntRange(-1, 1).Draw(t, "dx"), rapid.IntRange(-1, 1).Draw(t, "dy"))
			if s.Resource(e.Selected) == nil {
				t.Fatalf("%q is selected", e.Selected)
			}
		}
	})
}

func TestNotesTakeTheFirstThatFits(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	e := &Elevation{Notes: func(*elevation.Plank) []string { return []string{strings.Repeat("long ", 20), "short"} }}
	assert.Contains(t, drawn(e, s, 150, 40), "short")
	s.Apply(run.Event{Seq: 1, Kind: run.StepFailed, Step: "contacts-1/create", Resource: "contacts-1"})
	e.Notes = func(*elevation.Plank) []string {
		return []string{"the register is locked and nobody has the key to it"}
	}
	assert.Contains(t, drawn(e, s, 150, 40), "✕ contacts the regis", "the beginning of an error says much")
}

func TestTimelineInCells(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	begun := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	s.Apply(run.Event{Seq: 1, At: begun, Kind: run.RunStarted})
	s.Apply(run.Event{Seq: 2, At: begun, Kind: run.StepStarted, Step: "app-lan@vega/create"})
	s.Apply(run.Event{Seq: 3, At: begun.Add(4 * time.Second), Kind: run.StepDone, Step: "app-lan@vega/create"})
	s.Apply(run.Event{Seq: 4, At: begun, Kind: run.StepStarted, Step: "readings-host-1/create"})
	c := NewCanvas(look(), 120, 12)
	Timeline(c, Rect{0, 0, 120, 12}, timeline.New(s, begun.Add(10*time.Second), 10), Band{})
	text := plainText(c)
	lines := strings.Split(text, "\n")
	assert.Regexp(t, `^ networks\s+█████`, lines[0])
	assert.Regexp(t, `^ instances\s+█{8,}│░+`, lines[2], "what is done, now, what is to come")
	assert.Contains(t, lines[10], "now")
	small := NewCanvas(look(), 20, 2)
	Timeline(small, Rect{0, 0, 20, 2}, timeline.New(s, begun, 3), Band{})
	assert.Empty(t, strings.TrimSpace(plainText(small)))
	require.NotPanics(t, func() {
		for w := range 60 {
			c := NewCanvas(look(), w, 5)
			Timeline(c, Rect{0, 0, w, 5}, timeline.New(s, begun.Add(time.Duration(w)*time.Second), 4), Band{From: time.Minute, To: 2 * time.Minute})
			_ = fmt.Sprint(plainText(c))
		}
	})
}

func TestMarkedPlanksShowTheirWord(t *testing.T) {
	s := run.New(plantest.Plan(t, "drill"))
	e := Elevation{By: elevation.ByService, Marks: map[string]string{"forecast-2": "build", "river-map-1": "change"}}
	c := NewCanvas(NewLook(false, false, colorprofile.TrueColor), 150, 40)
	e.Draw(c, Rect{0, 0, 150, 40}, s)
	text := ansi.Strip(c.String())
	assert.Regexp(t, `forecast 2\s+build`, text)
	assert.Regexp(t, `river-map 1\s+change`, text)
	assert.NotRegexp(t, `forecast 1\s+build`, text)
}
