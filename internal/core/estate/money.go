package estate

import "math"

// moneyParts is into how many parts a unit of currency is divided: costs are counted in them.
const moneyParts = 1e6

// Money is a cost to the millionth of its currency: sums of costs are the same in whichever order they were added.
func Money(x float64) float64 { return math.Round(x*moneyParts) / moneyParts }
