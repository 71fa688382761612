package store

import "time"

// Book is what was written down of the runs of a deployment.
type Book struct {
	// Runs says of which runs, as they were: a book of others is to be written anew.
	Runs string
	Body []byte
}

// PriceList is what a site asks from a moment on, as JSON.
type PriceList struct {
	Site string
	From time.Time
	Body []byte
}
