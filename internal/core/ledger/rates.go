package ledger

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"time"

	"andamio/internal/core/estate"
	"andamio/internal/core/money"
)

// RatesVersion is the format that [ReadRates] accepts.
const RatesVersion = "andamio.rates/1"

// Rates say what the unit of the sites' prices is worth in a currency, from a day on (in UTC).
type Rates struct {
	Version string `json:"version"`
	// Unit is what the sites' prices are in, Currency a code of ISO 4217.
	Unit     string `json:"unit"`
	Currency string `json:"currency"`
	Rates    []Rate `json:"rates"`
}

// Rate is the worth of one unit from a day on; the first holds for the time before it too.
type Rate struct {
	// From is a day, as 2006-01-02.
	From  string  `json:"from"`
	Value float64 `json:"value"`

	at time.Time
}

// most is how much one unit may be worth.
const most = 1e6

var iso4217 = regexp.MustCompile(`^[A-Z]{3}$`)

// ReadRates reads a file of rates (YAML or JSON, schemas/rates.schema.json) and checks it: every mistake is in the error.
func ReadRates(data []byte) (*Rates, error) {
	var r Rates
	if err := estate.Decode(data, &r); err != nil {
		return nil, fmt.Errorf("these are no rates: %w", err)
	}
	if r.Version != RatesVersion {
		return nil, fmt.Errorf("version: %q is not read; Andamio reads %q", r.Version, RatesVersion)
	}
	var errs []error
	if r.Unit == "" {
		errs = append(errs, errors.New("unit: it is not said of what, such as cr"))
	}
	if !iso4217.MatchString(r.Currency) {
		errs = append(errs, fmt.Errorf("currency: %q is no code of ISO 4217, which has three capital letters", r.Currency))
	}
	if len(r.Rates) == 0 {
		errs = append(errs, errors.New("rates: there is none"))
	}
	for i := range r.Rates {
		x := &r.Rates[i]
		var err error
		x.From = estate.Day(x.From)
		if x.at, err = time.Parse(time.DateOnly, x.From); err != nil {
			errs = append(errs, fmt.Errorf("rates[%d].from: %q is no day, such as 2026-01-31", i, x.From))
		}
		if !(x.Value > 0) || x.Value > most {
			errs = append(errs, fmt.Errorf("rates[%d].value: %v is not what a unit can be worth", i, x.Value))
		}
		if i > 0 && !x.at.After(r.Rates[i-1].at) {
			errs = append(errs, fmt.Errorf("rates[%d].from: %s does not come after %s", i, x.From, r.Rates[i-1].From))
		}
	}
	return &r, errors.Join(errs...)
}

// At is the worth of a unit at a time. Without rates it is one.
func (r *Rates) At(t time.Time) float64 {
	if r == nil {
		return 1
	}
	value := r.Rates[0].Value
	for _, x := range r.Rates {
		if !x.at.After(t) {
			value = x.Value
		}
	}
	return value
}

// In is what an account is in: a currency, or the unit where there are no rates.
func (r *Rates) In(unit string) string {
	if r == nil {
		return unit
	}
	return r.Currency
}

// cost is what a charge cost within a time, at the rates of the days. It adds up as [Charge.Cost] does.
func (r *Rates) cost(c *Charge, from, to time.Time) money.Amount {
	if r == nil {
		return c.Cost(from, to)
	}
	var out money.Amount
	for i := range r.Rates {
		a, b := from, to
		if i > 0 && r.Rates[i].at.After(a) {
			a = r.Rates[i].at
		}
		if i+1 < len(r.Rates) && r.Rates[i+1].at.Before(b) {
			b = r.Rates[i+1].at
		}
		if !b.After(a) {
			continue
		}
		x, y := c.within(a, b)
		out += worth(after(c.PerHour, y), r.Rates[i].Value) - worth(after(c.PerHour, x), r.Rates[i].Value)
	}
	return out
}

// worth is an amount at a rate, rounded to the nearest millionth.
func worth(a money.Amount, rate float64) money.Amount {
	return money.Amount(math.Round(float64(a) * rate))
}
