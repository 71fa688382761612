// Package examples carries the demo scenario within the program, so that the demo needs nothing beside it.
package examples

import "embed"

// Files holds the scenario's folder, flood-watch.
//
//go:embed flood-watch
var Files embed.FS
