// Package examples carries the demo scenario, and what moves are tried with, within the program.
package examples

import "embed"

// Files holds the folders of the scenario, flood-watch, and of a workload that is moved about, level-log.
//
//go:embed flood-watch level-log
var Files embed.FS
