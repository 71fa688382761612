// Package examples carries the demo scenario, and what moves are tried with, within the program.
package examples

import "embed"

// Files holds the folders of the scenario, flood-watch, of a workload that is moved about, level-log, and of what is
// offered there, offers.
//
//go:embed flood-watch level-log offers
var Files embed.FS
