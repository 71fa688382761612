package site

import "context"

// Meter is a site that tells how much its instances use.
type Meter interface {
	// Measure says what each instance of the site uses now. An instance of which nothing can be told is left out, and so is a measure of one.
	Measure(ctx context.Context) ([]Metered, error)
}

// Metered is what one instance uses now.
type Metered struct {
	// ID is the instance's at the site.
	ID string
	// Values are by the names of measures (package core/measure), in their units.
	Values map[string]float64
}
