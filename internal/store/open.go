package store

import "andamio/internal/core/fault"

// ErrNewer says that a database was made by a newer version of this program.
var ErrNewer = fault.Refusedf("it was made by a newer version of andamio: use that one, or restore a backup that this one made into another workspace")
