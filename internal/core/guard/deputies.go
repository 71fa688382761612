package guard

import (
	"fmt"
	"slices"
	"time"
)

// Deputy decides in the place of somebody who is away: what they may approve, and nothing else that they may do.
type Deputy struct {
	// For is who is away, By who decides.
	For string `json:"for"`
	By  string `json:"by"`
	// From and Until are the first and the last of the days (RFC 3339, full-date; UTC). Without From it has begun.
	From  string `json:"from,omitempty"`
	Until string `json:"until"`
}

// holds reports that somebody decides at a time.
func (x *Deputy) holds(at time.Time) bool {
	day := at.UTC().Format(time.DateOnly) // days in this form are ordered as texts are
	return x.From <= day && day <= x.Until
}

// On is the directory as it is at a time: who is away then has deputies. Until it is said, nobody has.
func (d *Directory) On(at time.Time) *Directory {
	out := *d
	out.at = at
	return &out
}

// InPlaceOf are those in whose place somebody decides now, sorted.
func (d *Directory) InPlaceOf(person string) []string {
	return d.standing(func(x *Deputy) (string, bool) { return x.For, x.By == person })
}

// DeputiesOf are those who decide in somebody's place now, sorted.
func (d *Directory) DeputiesOf(person string) []string {
	return d.standing(func(x *Deputy) (string, bool) { return x.By, x.For == person })
}

func (d *Directory) standing(pick func(*Deputy) (string, bool)) []string {
	var out []string
	for i := range d.Deputies {
		if who, is := pick(&d.Deputies[i]); is && d.Deputies[i].holds(d.at) {
			out = append(out, who)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Asked reports that somebody is meant by one of some words, or one in whose place they decide. Nobody is asked in the place of whoever asks.
func (d *Directory) Asked(person, asks string, words []string) bool {
	as := func(who string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return d.Is(who, w) })
	}
	return as(person) || slices.ContainsFunc(d.InPlaceOf(person), func(who string) bool { return who != asks && as(who) })
}

// mayFor says whether somebody may approve in the place of another.
func (d *Directory) mayFor(person string, on Thing) (Answer, bool) {
	for _, who := range d.InPlaceOf(person) {
		if who == on.Person { // nobody decides what is their own, not by a deputy either
			continue
		}
		if a := d.may(who, Approve, on); a.Yes {
			return Answer{true, fmt.Sprintf("in the place of %s: %s", who, a.Why)}, true
		}
	}
	return Answer{}, false
}

func (d *Directory) checkDeputy(wrong wronged, i int) {
	x, at := &d.Deputies[i], fmt.Sprintf("deputies[%d]", i)
	for _, p := range []struct{ key, name string }{{".for", x.For}, {".by", x.By}} {
		if _, known := d.People[p.name]; !known {
			wrong(at+p.key, "there is nobody called %q", p.name)
		}
	}
	if x.For == x.By && x.For != "" {
		wrong(at+".by", "%s cannot be their own deputy", x.By)
	}
	for _, p := range []struct{ key, day string }{{".from", x.From}, {".until", x.Until}} {
		if _, err := time.Parse(time.DateOnly, p.day); err != nil && (p.day != "" || p.key == ".until") {
			wrong(at+p.key, "%q is no day, such as 2026-12-24", p.day)
		}
	}
	if x.From > x.Until {
		wrong(at+".until", "%s is before %s", x.Until, x.From)
	}
}
