// Package ledger is the account of what stood: where, how large, at which price, for whom, second by second.
//
// In go what stood before a run, its plan and the events of its journal, run after run; out come [Charge]s, each one thing as it stood
// unchanged from one second to another. What sites asked later, whose a deployment was when, and what the unit is worth in a currency
// are given beside them. Nothing is counted but what the journal says, and nothing twice: however an account is cut, by whom or by
// when, its parts add up to the whole, to the last millionth.
package ledger

import (
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/money"
)

// Charge is one thing that stood at a site as it was, from one moment to another.
type Charge struct {
	Deployment int64      `json:"deployment"`
	Resource   string     `json:"resource"`
	Title      string     `json:"title,omitempty"`
	Kind       kinds.Kind `json:"kind"`
	// Service is the group of the template that it belongs to.
	Service string `json:"service,omitempty"`
	Site    string `json:"site"`
	Zone    string `json:"zone,omitempty"`
	// Size is the site's name of what it has; Class the class of its storage.
	Size      string  `json:"size,omitempty"`
	Class     string  `json:"class,omitempty"`
	Cores     int     `json:"cores,omitempty"`
	MemoryGiB float64 `json:"memory_gib,omitempty"`
	DiskGiB   float64 `json:"disk_gib,omitempty"`
	// Off says that it was switched off.
	Off bool `json:"off,omitempty"`
	// PerHour is what it costs an hour as it is, PerHourOff what an instance costs while it is switched off.
	PerHour    money.Amount `json:"per_hour"`
	PerHourOff money.Amount `json:"per_hour_off,omitempty"`
	// Agreed is as of when its price is: when the run that built it was made.
	Agreed time.Time `json:"agreed"`
	// From and To are whole seconds; To is zero while it stands.
	From time.Time `json:"from"`
	To   time.Time `json:"to,omitzero"`

	// base is when the charge began that this is a part of: what is rounded counts from there.
	base time.Time
}

// began is from when on what the charge costs is counted.
func (c *Charge) began() time.Time {
	if c.base.IsZero() {
		return c.From
	}
	return c.base
}

// part is what of a charge lies within a time, though none of it may. Its rounding is that of the whole.
func (c *Charge) part(from, to time.Time) Charge {
	out := *c
	out.base = c.began()
	if from.After(out.From) {
		out.From = from
	}
	if !to.IsZero() && (out.To.IsZero() || to.Before(out.To)) {
		out.To = to
	}
	return out
}

// secondsPerHour is of how many seconds a price is.
const secondsPerHour = 3600

// Seconds is how long it stood within a time, in seconds.
func (c *Charge) Seconds(from, to time.Time) int64 {
	a, b := c.within(from, to)
	return b - a
}

// Cost is what it cost within a time, in the unit of the sites. Of neighbouring times it adds up: what is rounded is what it cost from its
// beginning on.
func (c *Charge) Cost(from, to time.Time) money.Amount {
	a, b := c.within(from, to)
	return after(c.PerHour, b) - after(c.PerHour, a)
}

// within are the seconds since the charge began at which a time begins and ends, as far as the charge goes.
func (c *Charge) within(from, to time.Time) (a, b int64) {
	if !c.To.IsZero() && c.To.Before(to) {
		to = c.To
	}
	if c.From.After(from) {
		from = c.From
	}
	base := c.began().Unix()
	if a, b = from.Unix()-base, to.Unix()-base; b <= a {
		return 0, 0
	}
	return a, b
}

// after is what a price an hour comes to after so many seconds, rounded to the nearest millionth.
func after(perHour money.Amount, seconds int64) money.Amount {
	whole, part := int64(perHour)/secondsPerHour, int64(perHour)%secondsPerHour
	return money.Amount(whole*seconds + (part*seconds+secondsPerHour/2)/secondsPerHour)
}

// Stands reports that it stood at a time.
func (c *Charge) Stands(at time.Time) bool {
	return !at.Before(c.From) && (c.To.IsZero() || at.Before(c.To))
}
