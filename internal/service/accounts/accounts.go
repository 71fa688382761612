package accounts

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/ledger"
	"andamio/internal/core/money"
	"andamio/internal/store"
)

// Account is what a time cost, as far as the actor may see it.
type Account struct {
	*ledger.Account
	// LeftOut are deployments whose prices are in another unit, which cannot be added up.
	LeftOut []string `json:"left_out,omitempty"`
}

// basis is what accounts are made of.
type basis struct {
	entries []ledger.Entry
	prices  ledger.Prices
	sites   []string
	unit    string
	rates   *ledger.Rates
	leftOut []string
}

// Account is what a query asks for: what stood by the journals, at the prices that sites asked, for whose it was, as far as the actor may see
// that. What has no end yet counts until now.
func (svc *Service) Account(ctx context.Context, q ledger.Query, now time.Time) (*Account, error) {
	b, q, err := svc.basis(ctx, q, now)
	if err != nil {
		return nil, err
	}
	return &Account{ledger.Sum(b.entries, q, b.unit, b.rates), b.leftOut}, nil
}

// CostOf is what a deployment has cost within a time, by site, in the unit of the prices.
func (svc *Service) CostOf(ctx context.Context, deployment int64, from, to time.Time) (map[string]money.Amount, error) {
	runs, err := svc.store.RunsOf(ctx, deployment)
	if err != nil || len(runs) == 0 {
		return nil, err
	}
	if err := svc.open(ctx); err != nil {
		return nil, err
	}
	book, err := svc.book(ctx, deployment, runs)
	if err != nil {
		return nil, err
	}
	b := &basis{}
	if err := svc.priced(ctx, b); err != nil {
		return nil, err
	}
	out := map[string]money.Amount{}
	for _, c := range b.prices.Priced(book.Closed()) {
		out[c.Site] += c.Cost(from, to)
	}
	return out, nil
}

// Savings are what instances would have cost less: stopped outside working hours, smaller, or at another site that is connected.
func (svc *Service) Savings(ctx context.Context, q ledger.Query, now time.Time) ([]ledger.Saving, error) {
	b, q, err := svc.basis(ctx, q, now)
	if err != nil {
		return nil, err
	}
	return ledger.Savings(b.entries, q, b.prices, b.sites, b.rates), nil
}

// ExportAccount writes what a query asks for with the columns of FOCUS, as CSV, and returns how many rows that are.
func (svc *Service) ExportAccount(ctx context.Context, q ledger.Query, w io.Writer, now time.Time) (int, error) {
	b, q, err := svc.basis(ctx, q, now)
	if err != nil {
		return 0, err
	}
	return ledger.WriteFocus(w, b.entries, q, b.prices, b.rates)
}

// Rates are what the unit of the sites' prices is worth; nil if nobody said so.
func (svc *Service) Rates() (*ledger.Rates, error) { return svc.workspace.Rates() }

// SetRates keeps what the unit is worth, from the text of its file.
func (svc *Service) SetRates(ctx context.Context, text []byte) (*ledger.Rates, error) {
	r, err := ledger.ReadRates(text)
	if err != nil {
		return nil, fault.Default(fault.Invalid, err)
	}
	return r, svc.desk.Do(ctx, guard.SetRates, guard.Named(r.Currency), func() error { return svc.workspace.SetRates(text) })
}

// basis is what an account is made of, and the query as far as there was anything until now.
func (svc *Service) basis(ctx context.Context, q ledger.Query, now time.Time) (*basis, ledger.Query, error) {
	if now.Before(q.To) {
		q.To = now
	}
	if err := q.Check(); err != nil {
		return nil, q, err
	}
	b := &basis{}
	var err error
	if b.rates, err = svc.workspace.Rates(); err != nil {
		return nil, q, err
	}
	if err := svc.priced(ctx, b); err != nil {
		return nil, q, err
	}
	return b, q, svc.gather(ctx, b)
}

// priced reads what sites asked, and in which unit.
func (svc *Service) priced(ctx context.Context, b *basis) error {
	lists, err := svc.store.PriceLists(ctx)
	if err != nil {
		return err
	}
	b.prices = ledger.Prices{}
	for _, l := range lists {
		s := &estate.Site{}
		if err := json.Unmarshal(l.Body, s); err != nil {
			return fmt.Errorf("what %s asked cannot be read: %w", l.Site, err)
		}
		s.Name = l.Site
		b.prices.Add(ledger.List{From: l.From, Site: s})
	}
	connections, err := svc.workspace.Connections()
	if err != nil {
		return err
	}
	for _, c := range connections {
		b.sites = append(b.sites, c.Site)
	}
	return nil
}

// gather puts together what the actor may see.
func (svc *Service) gather(ctx context.Context, b *basis) error {
	may, err := svc.may()
	if err != nil {
		return err
	}
	all, err := svc.store.Deployments(ctx)
	if err != nil {
		return err
	}
	owners, err := svc.store.Owners(ctx)
	if err != nil {
		return err
	}
	units, err := svc.units(ctx)
	if err != nil {
		return err
	}
	hidden, err := svc.hidden(ctx)
	if err != nil {
		return err
	}
	books, err := svc.books(ctx)
	if err != nil {
		return err
	}
	for _, d := range slices.Backward(all) { // the first one's unit is the account's
		book := books[d.ID]
		if book == nil || len(book.Charges) == 0 {
			continue
		}
		if b.unit == "" {
			b.unit = units[d.ID]
		}
		of := ledger.Deployed{Name: d.Name, Application: d.Name, Owners: owners[d.ID]}
		entries := slices.DeleteFunc(of.Entries(b.prices.Priced(book.Closed())), func(e ledger.Entry) bool { return !may(thing(d, &e), hidden[d.ID]) })
		if len(entries) > 0 && units[d.ID] != b.unit {
			b.leftOut = append(b.leftOut, d.Name)
			continue
		}
		b.entries = append(b.entries, entries...)
	}
	if b.rates != nil && b.unit != "" && b.rates.Unit != b.unit {
		return fault.Invalidf("prices are in %s, and the rates say what %s is worth: andamio account rates set FILE sets others", b.unit, b.rates.Unit)
	}
	return nil
}

// thing is what an entry is of, as the guard knows it.
func thing(d store.Deployment, e *ledger.Entry) guard.Thing {
	return guard.Thing{Name: d.Name, Deployment: d.ID, Team: e.Owner.Team, Person: e.Owner.Person, Service: e.Owner.Service, Stage: e.Owner.Stage, Tags: e.Owner.Tags, Sites: []string{e.Site}}
}

// units are what the prices of each deployment are in.
func (svc *Service) units(ctx context.Context) (map[int64]string, error) {
	all, err := svc.store.Runs(ctx)
	out := map[int64]string{}
	for _, r := range slices.Backward(all) {
		if r.Currency != "" {
			out[r.Deployment] = r.Currency
		}
	}
	return out, err
}

// KeepPrices keeps what a site asks from now on, unless that is what it asked last.
func KeepPrices(ctx context.Context, s interface {
	KeepPrices(ctx context.Context, l store.PriceList) error
}, site string, offers *estate.Site, now time.Time) error {
	body, err := json.Marshal(ledger.PriceList(offers))
	if err != nil {
		return err
	}
	return s.KeepPrices(ctx, store.PriceList{Site: site, From: now, Body: body})
}
