// Package schemas carries the JSON Schemas of Andamio's own file formats.
package schemas

import "embed"

// Files are the schemas, by file name.
//
//go:embed *.json values/*.json
var Files embed.FS
