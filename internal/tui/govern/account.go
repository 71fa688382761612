package govern

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"time"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/ledger"
	"andamio/internal/core/money"
	"andamio/internal/service/accounts"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

// dimensions are by what the account can be, in the order in which they are gone through.
var dimensions = []string{"team", "application", "deployment", "person", "site", "stage", "size"}

// anew is how often the account is worked out anew while it is on screen.
const anew = 10 * time.Second

// book is the account as it is on screen.
type book struct {
	of     *accounts.Account
	wrong  string
	by     int
	months int // before the one that goes on
	asked  time.Time
	// drawn is when it was on screen last: nobody works out what nobody looks at.
	drawn time.Time
	// n counts what was asked: an answer to an earlier question is not shown.
	n int
}

// accounted is an account that was worked out.
type accounted struct {
	n   int
	of  *accounts.Account
	err error
}

// query is what is asked of the account: a month, day by day.
func (b *book) query(now time.Time) ledger.Query {
	start := time.Date(now.Year(), now.Month()-time.Month(b.months), 1, 0, 0, 0, 0, now.Location())
	return ledger.Query{From: start, To: start.AddDate(0, 1, 0), By: dimensions[b.by], Every: ledger.Daily}
}

// account asks for the account, unless that was done a moment ago or nobody looks at it.
func (v *View) account(now bool) tea.Cmd {
	b := &v.book
	if v.app == nil || !now && (time.Since(b.asked) < anew || time.Since(b.drawn) > anew) {
		return nil
	}
	b.asked = time.Now()
	b.n++
	n, q := b.n, b.query(b.asked)
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostWait)
		defer cancel()
		out, err := v.app.Account(ctx, q, time.Now())
		return accounted{n, out, err}
	}
}

// take shows an account that was worked out.
func (b *book) take(msg accounted) {
	if msg.n != b.n {
		return
	}
	b.of, b.wrong = msg.of, ""
	if msg.err != nil {
		b.of, b.wrong = nil, msg.err.Error()
	}
}

// accountBy has the account be by something else.
func (v *View) accountBy(by int) tea.Cmd {
	v.book.by = (v.book.by + by + len(dimensions)) % len(dimensions)
	v.book.of = nil
	return v.account(true)
}

// page has the account be of another month.
func (v *View) page(months int) tea.Cmd {
	v.book.months = max(v.book.months+months, 0)
	v.book.of = nil
	return v.account(true)
}

// accountKeys are what keys mean while the account is looked at.
func (v *View) accountKeys() []view.Key {
	return []view.Key{view.On(view.LeftRight, "←→", "by", "has the account be by team, application, deployment, person, site, stage or size", func(name string) tea.Cmd {
		dx, _ := view.Way(name)
		return v.accountBy(dx)
	}), view.On("{ }", "{ }", "month", "goes to the month before, and back", func(name string) tea.Cmd {
		if name == "{" {
			return v.page(1)
		}
		return v.page(-1)
	})}
}

// Export writes the account as it is on screen: as a chart, and as rows where rates say what the unit is worth.
func (v *View) Export() tea.Cmd {
	if v.app == nil || v.book.of == nil {
		return nil
	}
	q := v.book.query(time.Now())
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(v.ctx, mostWait)
		defer cancel()
		return view.Written(v.app.DrawAccount(ctx, q, ".", time.Now()))
	}
}

// Columns of the account's axis, and how many lines have an ink of their own.
const (
	axisWidth = 9
	mostLines = 6
)

// series are how the lines of the account are drawn, the dearest first: told apart by their runes too.
var series = []struct {
	ink         part.Ink
	full, plain rune
}{{part.Sky, '█', '#'}, {part.Teal, '▓', '='}, {part.Ochre, '█', '+'}, {part.Violet, '▒', '%'}, {part.Steel, '▓', '-'}, {part.Dim, '█', '.'}}

// drawn is the rune of a line.
func (d *page) drawn(i int) rune {
	if d.c.Look.Glyphs.Bar < 0x80 {
		return series[i].plain
	}
	return series[i].full
}

// accountChart draws the account of a month: a column for each day, stacked by what it is by, and what is expected of the days to come.
func (d *page) accountChart(h int) {
	b := &d.v.book
	b.drawn = time.Now()
	selected := part.In(part.Steel).Strong()
	if d.v.pane == atAccount {
		selected = part.In(part.Ochre).Strong()
	}
	d.c.Text(d.r.X+1, d.y, selected, "account")
	x := d.c.Text(d.r.X+d.nameWidth()+2, d.y, part.In(part.Dim), "by "+dimensions[b.by]) + 3
	a := b.of
	if a != nil && len(a.Lines) > 0 {
		text := fmt.Sprintf("%.2f %s in %s", a.Total.Cost, a.Currency, a.From.Format("January"))
		if month := b.query(d.now); month.To.After(a.To) {
			text += fmt.Sprintf(", %.2f by its end as it is", a.Total.Cost+a.Expected(month.To))
		}
		d.c.Cut(x, d.y, d.r.X+d.r.W-x-1, part.In(part.Text), text)
	}
	d.c.Across(d.r.X+1, d.y+1, d.r.W-2, part.In(part.Dim), d.c.Look.Glyphs.Thin)
	d.y += 2
	switch {
	case b.wrong != "":
		d.c.Cut(d.r.X+2, d.y, d.r.W-3, part.In(part.Coral), b.wrong)
	case a == nil:
		d.c.Text(d.r.X+2, d.y, part.In(part.Dim), "it is being worked out")
	case len(a.Lines) == 0:
		d.c.Cut(d.r.X+2, d.y, d.r.W-3, part.In(part.Dim), "nothing stood in "+b.query(d.now).From.Format("January 2006")+" that you may see")
	default:
		d.legend(a.Top(mostLines))
		d.columns(a.Account, h-5)
	}
}

// legend says which line is drawn how, with what it cost where there is room for that.
func (d *page) legend(lines []ledger.Line) {
	words := func(l ledger.Line, cost bool) string {
		name := cmp.Or(l.Key, "nobody's")
		if cost {
			name += fmt.Sprintf(" %.2f", l.Cost)
		}
		return name
	}
	const expected = "expected"
	width := len(expected) + 2
	for _, l := range lines {
		width += utf8.RuneCountInString(words(l, true)) + 5
	}
	x := d.r.X + 2
	for i, l := range lines {
		d.c.Rune(x, d.y, part.In(series[i].ink), d.drawn(i))
		x = d.c.Text(x+2, d.y, part.In(part.Dim), words(l, width < d.r.W-2)) + 3
	}
	d.c.Rune(x, d.y, part.In(part.Dim), d.c.Look.Glyphs.Forecast)
	d.c.Cut(x+2, d.y, d.r.X+d.r.W-x-3, part.In(part.Dim), expected)
	d.y++
}

// columns draws a column for each day, so many rows high, with the axes.
func (d *page) columns(a *ledger.Account, h int) {
	month := d.v.book.query(d.now)
	days := int(math.Round(month.To.Sub(month.From).Hours() / 24))
	step := max(min((d.r.W-axisWidth-3)/days, 4), 2)
	expected := a.Total.Now * 24
	most := max(slices.Max(a.Total.Each), expected, 1)
	lines := a.Top(mostLines)
	x0 := d.r.X + axisWidth
	for row := range h {
		y := d.y + row
		if row == 0 || row == h/2 {
			d.c.Right(x0-2, y, part.In(part.Dim), fmt.Sprintf("%.2f", most.Units()*float64(h-row)/float64(h)))
		}
	}
	for day := range days {
		x := x0 + day*step
		if day >= len(a.Parts) {
			d.column(x, step-1, h, []money.Amount{expected}, most, func(int) (part.Ink, rune) { return part.Dim, d.c.Look.Glyphs.Forecast })
			continue
		}
		each := make([]money.Amount, len(lines), len(lines)+1)
		for i, l := range lines {
			each[i] = l.Each[day]
		}
		if day == len(a.Parts)-1 { // what the rest of the day comes to
			each = append(each, a.Expected(a.Parts[day].AddDate(0, 0, 1)))
		}
		d.column(x, step-1, h, each, most, func(i int) (part.Ink, rune) {
			if i == len(lines) {
				return part.Dim, d.c.Look.Glyphs.Forecast
			}
			return series[i].ink, d.drawn(i)
		})
	}
	d.c.Across(x0, d.y+h, days*step-1, part.In(part.Steel), d.c.Look.Glyphs.Thin)
	for day := 0; day < days; day += 5 {
		d.c.Text(x0+day*step, d.y+h+1, part.In(part.Dim), fmt.Sprint(day+1))
	}
	if n := len(a.Parts); n < days {
		d.c.Text(x0+(n-1)*step, d.y+h+1, part.In(part.Text).Strong(), "now")
	}
}

// column stacks amounts from the ground up.
func (d *page) column(x, w, h int, each []money.Amount, most money.Amount, how func(int) (part.Ink, rune)) {
	cells := func(a money.Amount) int { return int(math.Round(float64(h) * a.Units() / most.Units())) }
	var sum money.Amount
	at := 0
	for i, a := range each {
		sum += a
		to := cells(sum)
		if a > 0 && to == at && at < h && i == 0 {
			to++ // what cost anything is seen
		}
		ink, r := how(i)
		for ; at < to; at++ {
			d.c.Across(x, d.y+h-1-at, w, part.In(ink), r)
		}
	}
}
