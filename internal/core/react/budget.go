package react

import (
	"fmt"

	"andamio/internal/core/money"
)

// hoursAMonth is how many hours a month has on average.
const hoursAMonth = 365.25 * 24 / 12

// PerMonth is what something costs a month that costs so much an hour.
func PerMonth(perHour money.Amount) float64 { return perHour.Units() * hoursAMonth }

// Affords says why a deployment that costs so much an hour then is beyond the budget of a reaction; "" if it is not. One that costs no more than before is never beyond it.
func (r *Reaction) Affords(before, then money.Amount) string {
	if r.Budget <= 0 || then <= before || PerMonth(then) <= r.Budget {
		return ""
	}
	return fmt.Sprintf("it would cost %.2f a month, and may cost %.2f", PerMonth(then), r.Budget)
}
