package sites

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
	"andamio/internal/site"
	"andamio/internal/site/relay"
)

// Both sides of a pair may start moves.
const Both = "both"

// Pair is two sites between which workloads are moved, and how they find each other.
type Pair struct {
	A string `json:"a"`
	B string `json:"b"`
	// Start is the site from whose side moves may be started, or [Both].
	Start string `json:"start"`
	// Relayed pairs do not know each other: disks go by way of the machine where the run is, which both sites let in.
	Relayed bool `json:"relayed,omitempty"`
	// AtoB is the link as B finds it when it asks A, over which disks go from A to B; BtoA the other way.
	AtoB site.Trial `json:"a_to_b"`
	BtoA site.Trial `json:"b_to_a"`
	// Free is what either has left, in words, by site.
	Free    map[string]string `json:"free,omitempty"`
	Checked time.Time         `json:"checked"`
}

// Well reports that both sides reach each other and their clocks agree.
func (p Pair) Well() bool { return p.Trouble() == "" }

// mostApart is how far clocks of a pair may be apart: signatures live for minutes.
const mostApart = 30 * time.Second

// Trouble says what is the matter with a pair, "" if nothing is.
func (p Pair) Trouble() string {
	for _, x := range []struct {
		from, to string
		t        site.Trial
	}{{p.B, p.A, p.AtoB}, {p.A, p.B, p.BtoA}} {
		switch {
		case !x.t.Reachable && p.Relayed:
			return x.t.Why
		case !x.t.Reachable:
			return fmt.Sprintf("%s does not reach %s: %s", x.from, x.to, x.t.Why)
		case x.t.Ahead > mostApart || x.t.Ahead < -mostApart:
			return fmt.Sprintf("the clock of %s is %s off that of %s", x.to, x.t.Ahead.Round(time.Second), x.from)
		}
	}
	return ""
}

// Into is the link over which disks come to a site.
func (p Pair) Into(name string) site.Trial {
	if name == p.B {
		return p.AtoB
	}
	return p.BtoA
}

// Through says how much gets through to a site, in words: of what is relayed that is known only once something is copied.
func (p Pair) Through(to string) string {
	if p.Relayed {
		return "by way of here"
	}
	return fmt.Sprintf("%.0f MB/s", p.Into(to).BytesPerSecond/1e6)
}

// Other is the other site of a pair.
func (p Pair) Other(name string) string {
	if name == p.A {
		return p.B
	}
	return p.A
}

// ends are two connected sites that disks can be copied between.
func (svc *Service) ends(ctx context.Context, x, y string) (one, other site.Site, err error) {
	sites, err := svc.sites()
	if err != nil {
		return nil, nil, err
	}
	if x == y {
		return nil, nil, fault.Invalidf("a pair is of two sites, not of %s with itself", x)
	}
	for _, name := range []string{x, y} {
		if sites[name] == nil {
			_, err := svc.workspace.Connection(name)
			return nil, nil, err
		}
		if _, ok := site.Can[site.Disks](ctx, sites[name]); !ok {
			return nil, nil, fault.Refusedf("workloads cannot be moved from or to %s: its disks cannot be read and written from outside", name)
		}
	}
	return site.Narrowed(ctx, sites[x]), site.Narrowed(ctx, sites[y]), nil
}

// direct reports that disks go both ways between two sites without being relayed.
func direct(one, other site.Site) bool { return relay.Direct(one, other) && relay.Direct(other, one) }

// MakePair has two sites exchange their keys, and tries the links between them. start says from whose side moves may be
// started: one of the two, or [Both]. Sites that know no others exchange nothing: what is copied between them is relayed.
func (svc *Service) MakePair(ctx context.Context, x, y, start string) (out Pair, err error) {
	err = svc.desk.Do(ctx, guard.PairSites, guard.At(x, y), func() (err error) {
		out, err = svc.makePair(ctx, x, y, start)
		return err
	}, acting.Saying("moves are started from %s", start))
	return out, err
}

func (svc *Service) makePair(ctx context.Context, x, y, start string) (Pair, error) {
	if start != Both && start != x && start != y {
		return Pair{}, fault.Invalidf("moves are started from %s, from %s or from %s, not from %q", x, y, Both, start)
	}
	one, other, err := svc.ends(ctx, x, y)
	if err != nil {
		return Pair{}, err
	}
	out := Pair{A: min(x, y), B: max(x, y), Start: start, Relayed: !direct(one, other)}
	if !out.Relayed {
		if err := exchange(ctx, one.(site.Pairer), other.(site.Pairer), x, y, start); err != nil {
			return Pair{}, err
		}
	}
	return svc.checkPair(ctx, out)
}

// exchange has two sites, x and y, know each other's keys.
func exchange(ctx context.Context, one, other site.Pairer, x, y, start string) error {
	keyX, err := one.Self(ctx)
	if err != nil {
		return err
	}
	keyY, err := other.Self(ctx)
	if err != nil {
		return err
	}
	keyX.Site, keyY.Site = x, y
	// The side that may start moves may take from the other by itself; else what it takes is granted, disk by disk.
	keyX.MayStart, keyY.MayStart = start == x || start == Both, start == y || start == Both
	if err := one.Pair(ctx, keyY); err != nil {
		return err
	}
	if err := other.Pair(ctx, keyX); err != nil {
		return errors.Join(err, one.Part(context.WithoutCancel(ctx), y))
	}
	return nil
}

// Unpair has two sites forget each other.
func (svc *Service) Unpair(ctx context.Context, x, y string) error {
	return svc.desk.Do(ctx, guard.PartSites, guard.At(x, y), func() error { return svc.unpair(ctx, x, y) })
}

func (svc *Service) unpair(ctx context.Context, x, y string) error {
	p, err := svc.PairOf(ctx, x, y)
	if err != nil {
		return err
	}
	if err := svc.moving.NoneBetween(ctx, x, y); err != nil {
		return err
	}
	one, other, err := svc.ends(ctx, p.A, p.B)
	if err != nil {
		return err
	}
	if err := errors.Join(part(ctx, one, p.B), part(ctx, other, p.A)); err != nil {
		return err
	}
	return svc.store.SetPair(ctx, p.A, p.B, nil)
}

// part has a site forget another, if it knows it.
func part(ctx context.Context, at site.Site, other string) error {
	p, ok := at.(site.Pairer)
	if !ok {
		return nil
	}
	if err := p.Part(ctx, other); site.ClassOf(err) != site.NotFound {
		return err
	}
	return nil
}

// PairOf is what is known of a pair.
func (svc *Service) PairOf(ctx context.Context, x, y string) (Pair, error) {
	var p Pair
	body, err := svc.store.Pair(ctx, x, y)
	if err != nil {
		return p, err
	}
	if body == nil {
		return p, fault.NotFoundf("%s and %s are not paired: andamio pair %s %s pairs them", x, y, x, y)
	}
	return p, json.Unmarshal(body, &p)
}

// Pairs lists all pairs as they were found last.
func (svc *Service) Pairs(ctx context.Context) ([]Pair, error) {
	all, err := svc.pairs(ctx)
	if err != nil {
		return nil, err
	}
	return acting.Seen(ctx, svc.desk, all, func(p Pair) guard.Thing { return guard.At(p.A, p.B) })
}

func (svc *Service) pairs(ctx context.Context) ([]Pair, error) {
	all, err := svc.store.Pairs(ctx)
	if err != nil {
		return nil, err
	}
	var out []Pair
	for _, body := range all {
		var p Pair
		if err := json.Unmarshal(body, &p); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

// CheckPairs tries the links of all pairs again, all at once.
func (svc *Service) CheckPairs(ctx context.Context) ([]Pair, error) {
	all, err := svc.Pairs(ctx)
	if err != nil {
		return nil, err
	}
	errs := make([]error, len(all))
	var group sync.WaitGroup
	for i := range all {
		group.Go(func() { all[i], errs[i] = svc.checkPair(ctx, all[i]) })
	}
	group.Wait()
	return all, errors.Join(errs...)
}

// CheckPair tries the links of one pair again.
func (svc *Service) CheckPair(ctx context.Context, x, y string) (Pair, error) {
	if err := svc.desk.See(ctx, guard.At(x, y)); err != nil {
		return Pair{}, err
	}
	p, err := svc.PairOf(ctx, x, y)
	if err != nil {
		return p, err
	}
	return svc.checkPair(ctx, p)
}

// checkPair asks both sides for the link and for what they have left, and keeps what they say.
func (svc *Service) checkPair(ctx context.Context, p Pair) (Pair, error) {
	one, other, err := svc.ends(ctx, p.A, p.B)
	if err != nil {
		return p, err
	}
	if p.Relayed = !direct(one, other); p.Relayed {
		p.AtoB = relay.Try(ctx, one, other)
		p.BtoA = p.AtoB
	} else {
		p.AtoB, p.BtoA = try(ctx, other.(site.Pairer), p.A), try(ctx, one.(site.Pairer), p.B)
	}
	p.Free = map[string]string{}
	e, _ := svc.estate(ctx)
	for _, name := range []string{p.A, p.B} {
		if s := e.Site(name); s != nil {
			p.Free[name] = s.Free().String()
		}
	}
	p.Checked = time.Now().UTC().Truncate(time.Second)
	body, err := json.Marshal(p)
	if err != nil {
		return p, err
	}
	return p, svc.store.SetPair(ctx, p.A, p.B, body)
}

// try has a site ask another that it knows.
func try(ctx context.Context, at site.Pairer, other string) site.Trial {
	t, err := at.Try(ctx, other)
	if err != nil {
		return site.Trial{Why: err.Error()}
	}
	return t
}

// StartsFrom says from which side of a pair a move from one site to another is started, and whether the source has to
// grant the target each disk.
func (p Pair) StartsFrom(from, to, asked string) (side string, grant bool, err error) {
	may := []string{p.Start}
	if p.Start == Both {
		may = []string{to, from}
	}
	if asked == "" {
		asked = may[0]
	}
	if !slices.Contains(may, asked) {
		return "", false, fault.Refusedf("moves between %s and %s are started from %s alone", from, to, p.Start)
	}
	return asked, asked == from && !p.Relayed, nil
}
