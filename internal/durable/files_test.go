package durable_test

import (
	"testing"

	"andamio/internal/durable"
	"andamio/internal/durable/durabletest"
)

func TestFilesInAFolder(t *testing.T) {
	dir := t.TempDir()
	durabletest.Run(t, durable.In(dir), durable.In(dir))
}
