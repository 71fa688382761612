package inventory

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"andamio/internal/core/kinds"
)

// factual classes are facts of a site that nobody declares: what appears is recorded, and asks nobody.
func factual(c kinds.Kind) bool {
	switch c {
	case kinds.Host, kinds.Image, kinds.Hardware, kinds.Software, kinds.Service:
		return true
	}
	return false
}

// deep classes are seen only by a survey that goes into instances, so that their absence says nothing.
func deep(c kinds.Kind) bool { return c == kinds.Software || c == kinds.Service }

func (c *reconciler) record(s Source, i int32) *Record {
	if i < 0 {
		return nil
	}
	r := s.Record(int(i))
	return &r
}

func (c *reconciler) sources(e *entity) (d, r, o *Record) {
	return c.record(c.in.Declared, e.d), c.record(c.in.Recorded, e.r), c.record(c.in.Observed, e.o)
}

func (c *reconciler) add(f Finding) {
	s := f.Subject()
	f.Class, f.Name, f.Site = s.Class, s.Name, s.Site
	f.Ways = ways(&f)
	weighRank(&f)
	c.report.Findings = append(c.report.Findings, f)
}

// missing judges something that no observation is. What was not looked for is not gone.
func (c *reconciler) missing(e *entity) {
	d, r, _ := c.sources(e)
	s := r
	if s == nil {
		s = d
	}
	if deep(s.Class) {
		return
	}
	f := Finding{Type: Missing, Declared: d, Recorded: r}
	var since time.Time
	if d != nil {
		since = d.Origin.When
	}
	if !c.in.Coverage.saw(s, since, c.whole) {
		unseen := c.in.Now.Sub(s.Seen)
		if s.Seen.IsZero() || unseen < c.in.StaleAfter {
			return
		}
		f.Type = Stale
		f.Why = []string{fmt.Sprintf("it was seen last %s ago, and no survey of %s has reached it since: whether it is there is not known", days(unseen), place(s))}
		c.add(f)
		return
	}
	f.Why = []string{fmt.Sprintf("the survey of %s listed everything there, and it is not among that", place(s))}
	if d != nil {
		f.Why = append(f.Why, fmt.Sprintf("%s says that it stands", orWord(d.Origin.Deployment, "a deployment")))
	}
	if r != nil && !r.Seen.IsZero() {
		f.Why = append(f.Why, "it was seen last at "+r.Seen.Format("2006-01-02 15:04 MST"))
	}
	c.add(f)
}

// unmanaged judges an observation that nothing recorded or declared is.
func (c *reconciler) unmanaged(o int32) {
	r := c.record(c.in.Observed, o)
	if factual(r.Class) {
		c.report.New = append(c.report.New, *r)
		return
	}
	f := Finding{Type: Unmanaged, Observed: r, Why: []string{"no deployment declares it and no record knows it"}}
	if r.Mark != "" {
		f.Why = append(f.Why, fmt.Sprintf("it bears the mark %q, which no deployment of this workspace has now", r.Mark))
	}
	c.add(f)
}

// duplicate judges an observation that bears a sure key of something that was matched already.
func (c *reconciler) duplicate(o int32, e *entity) {
	d, r, first := c.sources(e)
	f := Finding{Type: Duplicate, Declared: d, Recorded: r, Observed: first, Other: c.record(c.in.Observed, o)}
	f.Why = []string{fmt.Sprintf("%s and %s bear the same mark or serial number, and one of them has the id that is recorded", first.Provider, f.Other.Provider)}
	c.add(f)
}

// recordedTwice judges a record that shares a sure key with another.
func (c *reconciler) recordedTwice(twin, e *entity) {
	d, r, o := c.sources(e)
	f := Finding{Type: Duplicate, Declared: d, Recorded: r, Observed: o, Other: c.record(c.in.Recorded, twin.r), OtherRecorded: true}
	if f.Other == nil {
		return
	}
	f.Why = []string{fmt.Sprintf("the records %s and %s share a sure key, and there is one such thing", f.Subject().ID, f.Other.ID)}
	c.add(f)
}

// compare judges something that is there and known.
func (c *reconciler) compare(e *entity) {
	d, r, o := c.sources(e)
	if d != nil && !o.Seen.IsZero() && o.Seen.Before(d.Origin.When) {
		c.report.Agreeing++ // it was changed since it was seen: the next survey says how it is
		return
	}
	differ, follow := c.differences(d, r, o)
	moved := o.Site != firstOf(r, d).Site
	if moved && r != nil && d != nil && d.Site == o.Site && d.Provider == o.Provider { // we moved it: the record follows
		moved = false
		var left []Difference
		differ, left = leftBehind(d, differ)
		follow = append(follow, left...)
		follow = append(follow, Difference{Attribute: columnSite, Authority: ByDeclared, Declared: d.Site, Recorded: r.Site, Observed: o.Site, Right: o.Site},
			Difference{Attribute: columnProvider, Authority: ByObserved, Recorded: r.Provider, Observed: o.Provider, Right: o.Provider})
	}
	if r == nil {
		c.report.New = append(c.report.New, c.newRecord(d, o, differ))
	} else if len(follow) > 0 && !e.review && !moved {
		c.report.Follows = append(c.report.Follows, Follow{*r, follow})
	}
	if len(differ) == 0 && !e.review && !moved {
		c.report.Agreeing++
		return
	}
	f := Finding{Type: Changed, Declared: d, Recorded: r, Observed: o, Differences: differ, Match: c.matches[e.match], Review: e.review}
	if moved {
		f.Type = Moved
		f.Why = append(f.Why, fmt.Sprintf("it is recorded at %s and was seen at %s", firstOf(r, d).Site, o.Site))
	}
	for _, x := range differ {
		f.Why = append(f.Why, fmt.Sprintf("%s: %s where %s is %s", x.Attribute, orWord(x.Observed, "none"), x.Authority, orWord(x.Right, "none")))
	}
	if e.review {
		f.Why = append([]string{fmt.Sprintf("it may be the same thing: %.0f %% by its evidence", f.Match.Score*100)}, f.Why...)
	}
	c.add(f)
}

// leftBehind parts what is otherwise of a thing that we moved: what nobody declares, and no person said of it, was so where it was alone, and the record
// follows what is there now; so it does in what it is called there.
func leftBehind(d *Record, differ []Difference) (differs, left []Difference) {
	for _, x := range differ {
		if _, says := d.Value(x.Attribute); x.Attribute == AttrName || !says && x.Authority == ByDeclared {
			x.Right = x.Observed
			left = append(left, x)
			continue
		}
		differs = append(differs, x)
	}
	return differs, left
}

func firstOf(all ...*Record) *Record {
	for _, r := range all {
		if r != nil {
			return r
		}
	}
	return nil
}

// newRecord is the record of what is declared and there: as it was seen, with what counts where they disagree.
func (c *reconciler) newRecord(d, o *Record, differ []Difference) Record {
	r := o.Clone()
	r.Origin = d.Origin
	r.Origin.Account = o.Origin.Account
	if r.Class == "" {
		r.Class = d.Class
	}
	for k, v := range d.Attributes {
		if _, known := r.Value(k); !known {
			r.Set(k, v)
		}
	}
	for _, x := range differ {
		r.Set(x.Attribute, x.Right)
	}
	return r
}

// differences are the attributes in which the observation is not what counts, and those that the record follows in.
func (c *reconciler) differences(d, r, o *Record) (differ, follow []Difference) {
	names := map[string]bool{AttrName: true}
	for _, x := range []*Record{d, r, o} {
		if x != nil {
			for k := range x.Attributes {
				names[k] = true
			}
		}
	}
	class := firstOf(r, d, o).Class
	if d != nil && d.Provider != "" && d.Provider != o.Provider && d.Site == o.Site {
		differ = append(differ, Difference{Attribute: columnProvider, Authority: ByDeclared, Declared: d.Provider, Observed: o.Provider, Right: d.Provider})
	} else if r != nil && r.Provider != o.Provider && r.Site == o.Site {
		follow = append(follow, Difference{Attribute: columnProvider, Authority: ByObserved, Recorded: r.Provider, Observed: o.Provider, Right: o.Provider})
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		x := Difference{Attribute: name, Authority: c.in.Rules.Of(class, name)}
		if x.Authority == ByNobody {
			continue
		}
		var saysD, saysR, saysO bool
		x.Declared, saysD = says(d, name, name == AttrAttached) // a volume declared without an instance is attached to none
		x.Recorded, saysR = says(r, name, closed(name))
		x.Observed, saysO = says(o, name, closed(name) && (saysD || saysR))
		switch {
		case x.Authority == ByObserved && saysO, !saysD && !saysR, saysD && saysO && same(x.Declared, x.Observed):
			x.Right = x.Observed // the record follows where two agree
		case saysD && (x.Authority == ByDeclared || !saysR):
			x.Right = x.Declared
		default:
			x.Right = x.Recorded
		}
		switch {
		case saysO && !same(x.Observed, x.Right):
			differ = append(differ, x)
		case r != nil && !same(x.Recorded, x.Right):
			follow = append(follow, x)
		}
	}
	return differ, follow
}

// says is a source's word on an attribute; where silence means none, a source that knows the thing always says.
func says(r *Record, attribute string, silenceIsNone bool) (string, bool) {
	if r == nil {
		return "", false
	}
	v, ok := r.Value(attribute)
	return v, ok || silenceIsNone
}

func place(r *Record) string {
	if r.Site == "" {
		return "its site"
	}
	if r.Region == "" {
		return r.Site
	}
	return r.Site + ", region " + r.Region
}

func days(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	}
	return d.Round(time.Minute).String()
}

func orWord(s, other string) string {
	if s == "" {
		return other
	}
	return s
}
