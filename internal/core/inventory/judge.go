package inventory

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// factual classes are facts of a site that nobody declares: what appears is recorded, and asks nobody.
func factual(c Class) bool {
	switch c {
	case Host, Image, Hardware, Software, Service:
		return true
	}
	return false
}

// deep classes are seen only by a survey that goes into instances, so that their absence says nothing.
func deep(c Class) bool { return c == Software || c == Service }

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

// fold takes findings that only follow from another into that one: the interfaces of an instance that is gone or nobody
// knows, and volumes that lost such an instance.
func (c *reconciler) fold() {
	all := c.report.Findings
	of := map[string]int{}
	note := func(i int, r *Record) {
		if r != nil && r.Provider != "" {
			of[r.Site+"\x00"+r.Provider] = i
		}
	}
	for i := range all {
		f := &all[i]
		if f.Class == Instance && (f.Type == Missing || f.Type == Unmanaged || f.Type == Moved) {
			note(i, f.Recorded)
			note(i, f.Declared)
			note(i, f.Observed)
		}
		if f.Class == Instance && f.Type == Duplicate {
			note(i, f.Other)
		}
	}
	if len(of) == 0 {
		return
	}
	carried := make([]bool, len(all))
	for i := range all {
		all[i].unhang(of, all)
		on, ok := follows(&all[i])
		if k, known := of[all[i].Site+"\x00"+on]; ok && known && k != i {
			carried[i] = true
			all[k].Carries = append(all[k].Carries, fmt.Sprintf("%s %s", all[i].Class, all[i].Name))
		}
	}
	kept := all[:0]
	for i := range all {
		if !carried[i] {
			kept = append(kept, all[i])
		}
	}
	c.report.Findings = kept
}

// unhang takes out of a changed volume that the instance it was attached to is gone, where it differs in more than that.
func (f *Finding) unhang(of map[string]int, all []Finding) {
	k := slices.IndexFunc(f.Differences, func(d Difference) bool { return d.Attribute == AttrAttached })
	if f.Type != Changed || k < 0 || len(f.Differences) < 2 {
		return
	}
	i, known := of[f.Site+"\x00"+f.Differences[k].Right]
	if !known {
		return
	}
	all[i].Carries = append(all[i].Carries, fmt.Sprintf("%s %s", f.Class, f.Name))
	f.Differences = slices.Delete(slices.Clone(f.Differences), k, k+1)
	f.Why = slices.DeleteFunc(f.Why, func(w string) bool { return strings.HasPrefix(w, AttrAttached+":") })
	f.Endangers = nil
	f.Why = slices.DeleteFunc(f.Why, func(w string) bool {
		return strings.HasPrefix(w, "it is part of the service") || strings.HasPrefix(w, "it costs")
	})
	f.Ways = ways(f)
	weighRank(f)
}

// follows is the instance that a finding may only follow from.
func follows(f *Finding) (instance string, ok bool) {
	s := f.Subject()
	switch {
	case f.Class == Interface && (f.Type == Missing || f.Type == Unmanaged || f.Type == Duplicate):
		instance = s.Attributes[AttrInstance]
	case f.Type == Changed && !f.Review && len(f.Differences) == 1 && f.Differences[0].Attribute == AttrAttached:
		instance = f.Differences[0].Right
	}
	return instance, instance != ""
}

// ways are how a finding can be settled, the suggested first.
func ways(f *Finding) []Way {
	declared := f.Declared != nil
	switch {
	case f.Review:
		return []Way{Same, Apart, Ignore}
	case f.Type == Unmanaged:
		return []Way{Adopt, Retire, Ignore}
	case f.Type == Missing && declared:
		return []Way{CorrectSite, Retire, Ignore}
	case f.Type == Stale && declared: // whether it is there must be known before it is given up
		return []Way{Ignore}
	case f.Type == Missing, f.Type == Stale:
		return []Way{Retire, Ignore}
	case f.Type == Moved:
		return []Way{Adopt, Ignore}
	case f.Type == Duplicate && f.OtherRecorded:
		return []Way{Same, Retire, Ignore}
	case f.Type == Duplicate:
		return []Way{Retire, Apart, Ignore}
	}
	ours := CorrectRecord // it is enough that the record follows
	if declaredDiffers(f) {
		ours = Adopt
	}
	switch {
	case !correctable(f):
		return []Way{ours, Ignore}
	case ours == Adopt:
		return []Way{CorrectSite, Adopt, Ignore}
	}
	return []Way{CorrectRecord, CorrectSite, Ignore}
}

// declaredDiffers reports that a deployment says otherwise than the site. What it calls the thing does not count.
func declaredDiffers(f *Finding) bool {
	return slices.ContainsFunc(f.Differences, func(d Difference) bool {
		return d.Attribute != AttrName && d.Declared != "" && !same(d.Declared, d.Observed)
	})
}

// correctable reports that a site can be asked to make every differing attribute what counts.
func correctable(f *Finding) bool {
	return !slices.ContainsFunc(f.Differences, func(d Difference) bool {
		return !Mendable(d.Attribute) && (f.Declared == nil || !Settable(f.Class, d.Attribute))
	})
}

// Mendable reports that a site can be asked to set an attribute without touching what runs.
func Mendable(attribute string) bool {
	return attribute == AttrName || attribute == AttrInside || strings.HasPrefix(attribute, TagPrefix)
}

// Settable reports that a site can be asked to set an attribute of what stands there.
func Settable(class Class, attribute string) bool {
	switch attribute {
	case AttrCores, AttrMemory, AttrSize, AttrState:
		return class == Instance
	}
	return Mendable(attribute)
}

// weighRank ranks a finding by what it costs and endangers.
func weighRank(f *Finding) {
	base := map[Type]float64{Missing: 50, Moved: 30, Duplicate: 25, Changed: 20, Unmanaged: 10, Stale: 5}[f.Type]
	if f.Class != Instance {
		base /= 2
	}
	service := ""
	for _, r := range []*Record{f.Declared, f.Recorded} {
		if r != nil && service == "" {
			service = r.Attributes[AttrService]
		}
	}
	cost := func(r *Record) float64 {
		if r == nil {
			return 0
		}
		return r.Number(AttrCost)
	}
	switch f.Type {
	case Unmanaged:
		f.CostPerHour = cost(f.Observed)
	case Duplicate:
		if !f.OtherRecorded {
			f.CostPerHour = cost(f.Other)
		}
	case Changed:
		f.CostPerHour = max(cost(f.Observed)-max(cost(f.Declared), cost(f.Recorded)), 0)
	}
	if service != "" && endangers(f) {
		f.Endangers = []string{service}
		base += 60
		f.Why = append(f.Why, "it is part of the service "+service)
	}
	if f.CostPerHour > 0 {
		f.Why = append(f.Why, fmt.Sprintf("it costs %.3f an hour that nobody asked for", f.CostPerHour))
	}
	f.Rank = base + 100*f.CostPerHour
	if f.Review {
		f.Rank += 15
	}
}

// endangers reports that a service may suffer from a finding: something of it is gone or off, has less than it needs, or
// is reached elsewhere.
func endangers(f *Finding) bool {
	if f.Type == Missing || f.Type == Moved {
		return true
	}
	for _, d := range f.Differences {
		switch d.Attribute {
		case AttrState, AttrAddress, AttrInside, AttrPorts, AttrAttached:
			return true
		case AttrCores, AttrMemory, AttrDisk:
			a, b := Record{Attributes: map[string]string{"v": d.Observed}}, Record{Attributes: map[string]string{"v": d.Right}}
			if a.Number("v") < b.Number("v") {
				return true
			}
		}
	}
	return false
}

func place(r *Record) string {
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
