package fronts

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/front"
	"andamio/internal/core/measure"
	"andamio/internal/core/plan"
	"andamio/internal/core/printable"
	"andamio/internal/core/run"
	"andamio/internal/engine"
	"andamio/internal/reach"
	"andamio/internal/responder"
	"andamio/internal/service/deployments"
)

// How often it is looked whether members came or went, how full their machines are, how far sites are apart, and how often what is known is kept.
const (
	memberEvery  = 2 * time.Second
	loadEvery    = 15 * time.Second
	betweenEvery = 10 * time.Minute
	keepEvery    = time.Second
	// betweenWithin is how long sites have to say how far they are apart: members are not followed meanwhile.
	betweenWithin = 10 * time.Second
)

// ask asks a member once, as a plan would.
func ask(ctx context.Context, m front.Member) (said string, good bool) {
	c := plan.Condition{Kind: plan.CheckTCP}
	if m.Check.HTTP {
		c = plan.Condition{Kind: plan.CheckHTTP, Path: m.Check.Path, Status: m.Check.Status, Contains: m.Check.Contains}
	}
	said, good = engine.Ask(reach.At(ctx, m.Site), c, netip.AddrPortFrom(m.Address, m.Port).String())
	return printable.Clean(said), good
}

// AnswerFronts answers for the zone of the workspace's fronts at some addresses until the context ends; told hears where, once it does. Members are those of what stands, whatever becomes of it; what was known last is
// answered with from the first moment on. Keeps has what is known be kept, and the plain names be published: one of several who answer does.
func (svc *Service) AnswerFronts(ctx context.Context, addresses []string, keeps bool, told func(at []string)) error {
	if err := svc.desk.Read("the fronts"); err != nil {
		return err
	}
	f, text, err := svc.workspace.Fronts()
	if err != nil {
		return err
	}
	if f.Zone == "" {
		return fault.NotFoundf("there are no fronts: andamio front set FILE keeps some")
	}
	a := &answering{svc: svc, keeps: keeps, file: f, text: text, table: &front.Table{File: f, Members: map[string][]front.Member{}}}
	a.responder, a.keeper = ResponderOf()
	a.keeper.Changed = func(t *front.Table) { a.changed.Store(t) }
	if last, err := svc.last(); err == nil && last != nil && last.File.Zone == f.Zone {
		a.table.Members, a.table.Between = last.Members, last.Between
	}
	ctx, stop := context.WithCancel(ctx)
	defer a.keeper.Wait()
	defer stop()
	a.keeper.Want(ctx, a.table)
	at, done, err := a.responder.Listen(ctx, addresses)
	if err != nil {
		return err
	}
	told(at)
	a.goOn(ctx)
	return done()
}

// answering is what one who answers knows.
type answering struct {
	svc       *Service
	keeps     bool
	file      *front.File
	text      []byte
	table     *front.Table
	responder *responder.Responder
	keeper    *responder.Keeper
	// changed is the last table that is not kept yet.
	changed atomic.Pointer[front.Table]
	stamp   string
	known   deployments.Known
	loads   map[string]float64
	plain   plainNames

	looked, loaded, measured time.Time
}

// goOn follows what stands until the context ends. What cannot be read leaves all as it was known last.
func (a *answering) goOn(ctx context.Context) {
	tick := time.NewTicker(keepEvery)
	defer tick.Stop()
	for {
		now := time.Now()
		if now.Sub(a.looked) >= memberEvery {
			a.looked = now
			if err := a.look(ctx, now); err != nil && ctx.Err() == nil {
				a.svc.log.Warn("who serves what is in front could not be read, and is taken to be as before", "err", err)
			}
		}
		if t := a.changed.Swap(nil); t != nil && a.keeps {
			a.keep(ctx, t, now)
		} else if t := a.responder.Table(); t != nil && a.keeps {
			a.publish(ctx, t, now)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// look works out the members anew, if anything has changed.
func (a *answering) look(ctx context.Context, now time.Time) error {
	runs, err := a.svc.store.Runs(ctx)
	if err != nil {
		return err
	}
	var b strings.Builder
	going := false
	for _, r := range runs {
		fmt.Fprintf(&b, "%d %s;", r.ID, r.State)
		going = going || r.State == run.UnderWay
	}
	anew := now.Sub(a.measured) >= betweenEvery // also what no run changes, as whose a deployment is
	change := b.String() != a.stamp || going || anew
	members, between := a.table.Members, a.table.Between
	if change {
		if members, err = a.svc.members(ctx, &a.known, a.file); err != nil {
			return err
		}
		a.stamp = b.String()
	}
	if anew {
		a.measured = now
		if far := a.svc.between(ctx); len(far) > 0 {
			between = far
		}
	}
	if now.Sub(a.loaded) >= loadEvery {
		a.loaded = now
		if loads, err := a.svc.loads(ctx, a.file, members, now); err != nil { // members are followed all the same
			a.svc.log.Warn("how full what is in front is could not be read", "err", err)
		} else {
			a.loads = loads
		}
		change = change || len(a.loads) > 0
	}
	if !change {
		return nil
	}
	next := &front.Table{File: a.file, Members: map[string][]front.Member{}, Between: between}
	for name, all := range members {
		all = slices.Clone(all)
		for i := range all {
			all[i].Load = a.loads[all[i].Key()]
		}
		next.Members[name] = all
	}
	a.table = next
	a.keeper.Want(ctx, next)
	return nil
}

// between are the milliseconds between sites, as far as they are known now.
func (svc *Service) between(ctx context.Context) map[string]map[string]float64 {
	ctx, cancel := context.WithTimeout(ctx, betweenWithin)
	defer cancel()
	e, err := svc.sites.Estate(ctx)
	if e == nil {
		svc.log.Warn("how far sites are apart could not be read", "err", err)
		return nil
	}
	out := map[string]map[string]float64{}
	for _, s := range e.Sites {
		if len(s.Distances) > 0 {
			out[s.Name] = s.Distances
		}
	}
	return out
}

// loads are how full the machines of members are, by their keys, where a front asks for that.
func (svc *Service) loads(ctx context.Context, f *front.File, members map[string][]front.Member, now time.Time) (map[string]float64, error) {
	out := map[string]float64{}
	things := map[int64]map[string]measure.Thing{}
	for i := range f.Fronts {
		if f.Fronts[i].Full == "" {
			continue
		}
		for _, m := range members[f.Fronts[i].Name] {
			of := things[m.Deployment]
			if of == nil {
				all, err := svc.watch.Measured(ctx, m.Deployment)
				if err != nil {
					return nil, err
				}
				of = map[string]measure.Thing{}
				for _, t := range all {
					if t.Kind == measure.OfInstance {
						of[t.Resource] = t
					}
				}
				things[m.Deployment] = of
			}
			t, known := of[m.Machine]
			if !known {
				continue
			}
			figures, err := svc.watch.Figures(ctx, []measure.Thing{t}, now)
			if err != nil {
				return nil, err
			}
			for _, x := range figures[t.Key] {
				if x.Name == measure.CoresUsed && x.Limit > 0 {
					out[m.Key()] = x.Value / x.Limit
				}
			}
		}
	}
	return out, nil
}

// keep keeps what is known, so that it is known to whoever answers next, and publishes the plain names.
func (a *answering) keep(ctx context.Context, t *front.Table, now time.Time) {
	data, err := t.Write(a.text)
	if err == nil {
		err = a.svc.workspace.KeepLastFronts(data)
	}
	if err != nil {
		a.svc.log.Warn("what is known of fronts could not be kept", "err", err)
		a.changed.CompareAndSwap(nil, t)
	}
	a.publish(ctx, t, now)
}

func upOf(members []front.Member) []string {
	var out []string
	for i := range members {
		if m := &members[i]; m.Up && !slices.Contains(out, m.Address.String()) {
			out = append(out, m.Address.String())
		}
	}
	slices.Sort(out)
	return out
}

// followEvery is how often it is looked whether a file has changed that is answered from.
const followEvery = time.Second

// AnswerFrom answers from a file of what was known last until the context ends, and asks the members by itself: it needs nothing else, and goes on with what it knows when the file is gone. A file that changes is
// read anew.
func AnswerFrom(ctx context.Context, file string, addresses []string, told func(at []string)) error {
	t, changed, err := readLast(file)
	if err != nil {
		return err
	}
	r, k := ResponderOf()
	ctx, stop := context.WithCancel(ctx)
	defer k.Wait()
	defer stop()
	k.Want(ctx, t)
	at, done, err := r.Listen(ctx, addresses)
	if err != nil {
		return err
	}
	told(at)
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return done()
		case <-tick.C:
		}
		if info, err := os.Stat(file); err != nil || info.ModTime().Equal(changed) {
			continue
		}
		if next, at, err := readLast(file); err == nil {
			changed = at
			k.Want(ctx, next)
		}
	}
}

func readLast(file string) (*front.Table, time.Time, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, time.Time{}, fault.NotFoundf("nothing was known of fronts in %s: %w", file, err)
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, time.Time{}, err
	}
	t, err := front.ReadTable(data)
	if err != nil {
		return nil, time.Time{}, errors.Join(fault.Invalidf("%s is no file of what was known of fronts last", file), err)
	}
	return t, info.ModTime(), nil
}
