package store

// Reservation is an address of a site's pools, or "vlan N", that a run has.
type Reservation struct {
	Site, Value string
	Run         int64
}
