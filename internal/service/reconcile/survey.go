package reconcile

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/kinds"
	"andamio/internal/core/mapping"
	"andamio/internal/core/trail"
	"andamio/internal/service/accounts"
	"andamio/internal/service/acting"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/service/workspace"
	"andamio/internal/site"
	"andamio/internal/store"
)

// Bounds of a survey: how many regions are listed at once, how many things a page has, how often a call is tried again.
const (
	regionsAtOnce = 4
	surveyPage    = 200
	SurveyTries   = 4
	// surveyPages bounds the pages of a kind in a region: those of two million things.
	surveyPages = 10_000
	// surveyWait is the longest that a site is waited for that asks for it.
	surveyWait = time.Minute
)

// surveyed are the kinds that surveys list, the links last: they say where what they link belongs.
var surveyed = []kinds.Kind{kinds.Instance, kinds.Volume, kinds.Network, kinds.Interface, kinds.Snapshot, kinds.Attachment}

// SurveyRequest says how a site is surveyed.
type SurveyRequest struct {
	Site string `json:"site,omitempty"`
	// Regions bound it further than the connection does.
	Regions []string `json:"regions,omitempty"`
	// Deep goes into instances by SSH as well.
	Deep bool `json:"deep"`
	// Progress hears of every page; nil hears nothing.
	Progress func(store.Survey) `json:"-"`
}

// Survey lists everything that a site's credential can see and keeps it as what is observed. Each region by itself: one
// that cannot be listed whole leaves what was observed there before as it is, and is named in the survey. A survey of the
// site that was stopped or broke off within the hour goes on where it was. The error is that of the site if no region
// could be listed.
func (svc *Service) Survey(ctx context.Context, w SurveyRequest) (out store.Survey, err error) {
	err = svc.desk.Do(ctx, guard.SurveySite, guard.At(w.Site), func() (err error) {
		out, err = svc.surveySite(ctx, w)
		return err
	}, w.depth())
	return out, err
}

// depth says of a deep survey that it goes into instances.
func (w SurveyRequest) depth() acting.Detail {
	if w.Deep {
		return acting.Saying("with what is within its instances")
	}
	return func(*trail.Entry) {}
}

func (svc *Service) surveySite(ctx context.Context, w SurveyRequest) (store.Survey, error) {
	c, err := svc.workspace.Connection(w.Site)
	if err != nil {
		return store.Survey{}, err
	}
	speaking, err := c.Surveyor()
	if err != nil {
		return store.Survey{}, err
	}
	s := &surveying{svc: svc, c: c, driver: speaking, wish: w}
	access, err := s.driver.Access(ctx)
	if err != nil {
		return store.Survey{}, sites.Hint(c, err)
	}
	s.account = access.Account
	regions, err := s.regions(access)
	if err != nil {
		return store.Survey{}, err
	}
	if w.Deep {
		regions = append(slices.Clone(regions), RegionInside)
	}
	if err := s.begin(ctx, regions); err != nil {
		return store.Survey{}, err
	}
	if err := svc.facts(ctx, &c); err != nil && ctx.Err() == nil {
		svc.log.Warn("a site did not say what it offers", "site", c.Site, "err", err)
	}
	return s.run(ctx)
}

// facts keeps what the site offers: what things cost, from now on, and which hosts and images there are.
func (svc *Service) facts(ctx context.Context, c *workspace.Connection) error {
	offers, err := c.Describe(ctx)
	if err != nil {
		return err
	}
	body, err := json.Marshal(offers)
	if err != nil {
		return err
	}
	now := time.Now()
	if err := svc.store.KeepFacts(ctx, c.Site, body, now); err != nil {
		return err
	}
	return accounts.KeepPrices(ctx, svc.store, c.Site, offers, now)
}

// mostDescribed is how long it is waited for a site to say what it offers.
const mostDescribed = 2 * time.Minute

// RefreshPrices asks every site what it offers, and keeps what it asks from now on. It returns how many said so; those that did not are in the
// error.
func (svc *Service) RefreshPrices(ctx context.Context) (int, error) {
	all, err := svc.workspace.Connections()
	if err != nil {
		return 0, err
	}
	done := 0
	for i := range all {
		c := &all[i]
		wrong := svc.desk.Do(ctx, guard.SurveySite, guard.At(c.Site), func() error {
			ctx, cancel := context.WithTimeout(ctx, mostDescribed)
			defer cancel()
			return svc.facts(ctx, c)
		}, acting.Saying("what it asks"))
		if wrong != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w", c.Site, wrong))
			continue
		}
		done++
	}
	return done, err
}

// surveying is a survey under way.
type surveying struct {
	svc     *Service
	c       workspace.Connection
	driver  site.Surveyor
	wish    SurveyRequest
	account string

	mu     sync.Mutex
	survey store.Survey
}

// regions are those that are to be listed.
func (s *surveying) regions(access site.Access) ([]string, error) {
	all := access.Regions
	if len(all) == 0 {
		all = []string{""}
	}
	for _, want := range [][]string{s.c.Regions, s.wish.Regions} {
		if len(want) == 0 {
			continue
		}
		for _, r := range want {
			if !slices.Contains(all, r) {
				return nil, fault.NotFoundf("%s has no region %q that is surveyed; there are %s", s.c.Site, r, strings.Join(all, ", "))
			}
		}
		all = want
	}
	return all, nil
}

// goesOnFor is for how long a survey that broke off can be gone on with: what it saw gets old.
const goesOnFor = time.Hour

// begin makes a survey, or takes up one of the same regions that broke off.
func (s *surveying) begin(ctx context.Context, regions []string) error {
	last, err := s.svc.store.LastSurvey(ctx, s.c.Site)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if err == nil && last.State == store.SurveyGoing && time.Since(last.Beat) < runs.SilentAfter {
		return fault.Conflictf("a survey of %s goes on already", s.c.Site)
	}
	broke := err == nil && (last.State == store.SurveyStopped || last.State == store.SurveyGoing) && time.Since(last.Started) < goesOnFor
	if broke && slices.EqualFunc(last.Parts, slices.Sorted(slices.Values(regions)), func(p store.SurveyPart, r string) bool { return p.Region == r }) {
		s.survey = last
		return nil
	}
	now := time.Now()
	id, err := s.svc.store.BeginSurvey(ctx, s.c.Site, s.wish.Deep, regions, now)
	if err != nil {
		return err
	}
	s.survey, err = s.svc.store.Survey(ctx, id)
	return err
}

// run lists all regions that are not listed yet, some at once.
func (s *surveying) run(ctx context.Context) (store.Survey, error) {
	tokens := make(chan struct{}, regionsAtOnce)
	errs := make([]error, len(s.survey.Parts))
	var group sync.WaitGroup
	for i := range s.survey.Parts {
		if s.survey.Parts[i].State == store.SurveyDone {
			continue
		}
		group.Go(func() {
			tokens <- struct{}{}
			defer func() { <-tokens }()
			errs[i] = s.region(ctx, i)
		})
	}
	group.Wait()
	state := store.SurveyDone
	failed := 0
	for _, err := range errs {
		if err != nil {
			state = store.SurveyPartial
			failed++
		}
	}
	if failed == len(errs) {
		state = store.SurveyFailed
	}
	if ctx.Err() != nil {
		state = store.SurveyStopped
	}
	after := context.WithoutCancel(ctx)
	if err := s.svc.store.EndSurvey(after, s.survey.ID, state, time.Now()); err != nil {
		return s.survey, err
	}
	out, err := s.svc.store.Survey(after, s.survey.ID)
	if err == nil && ctx.Err() != nil {
		err = ctx.Err()
	}
	if err == nil && state == store.SurveyFailed {
		err = fault.Unavailablef("no region of %s could be listed: %w", s.c.Site, errors.Join(errs...))
	}
	return out, err
}

// region lists one region, kind by kind, page by page, from where it was broken off.
func (s *surveying) region(ctx context.Context, i int) error {
	s.mu.Lock()
	p := s.survey.Parts[i]
	s.mu.Unlock()
	list := s.list
	if p.Region == RegionInside {
		list = func(ctx context.Context, _ int, _ store.SurveyPart) error { return s.inside(ctx) }
	}
	err := list(ctx, i, p)
	if ctx.Err() != nil {
		return ctx.Err() // what is staged stays for when it goes on
	}
	end := s.svc.store.EndRegion(ctx, s.survey.ID, s.c.Site, p.Region, err, time.Now())
	s.mu.Lock()
	s.survey.Parts[i].State = store.SurveyDone
	if err != nil {
		s.survey.Parts[i].State, s.survey.Parts[i].Error = store.SurveyFailed, err.Error()
	}
	s.mu.Unlock()
	s.tell()
	return errors.Join(err, end)
}

// stageEvery is how long what was listed may wait until it is staged with what comes after it: it is also a sign of life.
const stageEvery = time.Second

// staging gathers pages that hold little, so that they are staged in one.
type staging struct {
	part store.SurveyPart
	seen []mapping.Observation
	last time.Time
}

// flush stages what was gathered.
func (g *staging) flush(ctx context.Context, s *surveying) error {
	err := s.svc.store.Stage(ctx, s.survey.ID, g.part, g.seen)
	g.seen, g.last = nil, time.Now()
	return err
}

// list lists one region, and has what it saw staged: also where it breaks off.
func (s *surveying) list(ctx context.Context, i int, p store.SurveyPart) error {
	g := &staging{part: p, last: time.Now()}
	err := s.listInto(ctx, i, p, g)
	return errors.Join(err, g.flush(context.WithoutCancel(ctx), s))
}

func (s *surveying) listInto(ctx context.Context, i int, p store.SurveyPart, g *staging) error {
	from := max(slices.Index(surveyed, kinds.Kind(p.Kind)), 0)
	for k, kind := range surveyed[from:] {
		if !s.c.Holds(kind) {
			continue
		}
		after := ""
		if k == 0 {
			after = p.Cursor
		}
		been := map[string]bool{after: true}
		for {
			page, err := s.page(ctx, site.Query{Kind: kind, Region: p.Region, After: after, Size: surveyPage})
			if err != nil {
				return err
			}
			g.part.Kind, g.part.Cursor = string(kind), page.Next
			g.seen = append(g.seen, s.observations(page.Resources, kind)...)
			if page.Next != "" || len(g.seen) >= surveyPage || time.Since(g.last) > stageEvery {
				if err := g.flush(ctx, s); err != nil {
					return err
				}
			}
			s.mu.Lock()
			s.survey.Parts[i].Found += len(page.Resources)
			s.mu.Unlock()
			s.tell()
			if after = page.Next; after == "" {
				break
			}
			if been[after] || len(been) == surveyPages {
				return &site.Error{Site: s.c.Site, Doing: fmt.Sprintf("list %s", kind), Class: site.Refused,
					Detail: fmt.Sprintf("it gives the same pages again and again, or more than %d of them: bound the survey to fewer regions or tags, or ask the site's operator", surveyPages)}
			}
			been[after] = true
		}
	}
	return nil
}

// page asks for one page, again where that may help.
func (s *surveying) page(ctx context.Context, q site.Query) (site.Page, error) {
	wait := 100 * time.Millisecond
	for try := 1; ; try++ {
		page, err := s.driver.Page(ctx, q)
		var e *site.Error
		if err == nil || try == SurveyTries || errors.As(err, &e) && e.Class != site.Transient && e.Class != site.RateLimited {
			return page, err
		}
		if e != nil && e.After > wait {
			wait = min(e.After, surveyWait)
		}
		select {
		case <-ctx.Done():
			return page, ctx.Err()
		case <-time.After(wait):
		}
		wait *= 2
	}
}

// observations are what of a page is kept, as the filter says. Links are kept: they go with what they link.
func (s *surveying) observations(all []site.Resource, kind kinds.Kind) []mapping.Observation {
	var out []mapping.Observation
	link := kind == kinds.Interface || kind == kinds.Attachment
	for i := range all {
		if o := Observe(s.c.Site, s.account, &all[i]); link || s.c.Filter.Takes(kind, &o) {
			out = append(out, o)
		}
	}
	return out
}

// Observe is a thing as a site tells it, for the mapping.
func Observe(at, account string, r *site.Resource) mapping.Observation {
	o := mapping.Observation{Site: at, Account: account, ID: r.ID, Name: r.Name, Mark: r.Mark, State: string(r.State)}
	if t := r.Details; t != nil {
		o.Type, o.Region, o.Source, o.Target, o.Mixins, o.Raw = t.Type, t.Region, t.Source, t.Target, t.Mixins, t.Raw
	}
	return o
}

func (s *surveying) tell() {
	if s.wish.Progress == nil {
		return
	}
	s.mu.Lock()
	now := s.survey
	now.Parts = slices.Clone(now.Parts)
	s.mu.Unlock()
	s.wish.Progress(now)
}

// SurveyAll surveys all connected sites at once. What each said is in order of the connections; a site that could not be
// surveyed has an error in its place.
func (svc *Service) SurveyAll(ctx context.Context, deep bool, progress func(store.Survey)) ([]store.Survey, []error) {
	connections, err := svc.workspace.Connections()
	if err != nil {
		return nil, []error{err}
	}
	out, errs := make([]store.Survey, len(connections)), make([]error, len(connections))
	var group sync.WaitGroup
	for i, c := range connections {
		group.Go(func() {
			out[i], errs[i] = svc.Survey(ctx, SurveyRequest{Site: c.Site, Deep: deep, Progress: progress})
			if out[i].Site == "" {
				out[i].Site, out[i].State = c.Site, store.SurveyFailed
			}
		})
	}
	group.Wait()
	return out, errs
}
