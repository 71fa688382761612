package api

import (
	"bytes"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/guard"
	"andamio/internal/service/templates"
	"andamio/internal/service/tokens"
	"andamio/internal/source"
)

// TestFilesAndCommandsReachInstances runs a command on a machine, copies a file there and back, whole and in part, and makes a template of what stands.
func TestFilesAndCommandsReachInstances(t *testing.T) {
	t.Parallel()
	a, _, c := opened(t, Usual)
	x := c.ask("POST", "/runs?confirm=gauges", planOf(c, ""))
	require.Equal(t, http.StatusAccepted, x.status, x.body)
	heard(c, 1, "")

	got := c.ask("POST", "/instances/gauge-1/command", `{"command": "cat; echo off >&2; printf '\\033[31m'; exit 3", "input": "level 3"}`)
	require.Equal(t, http.StatusOK, got.status, got.body)
	var said ran
	got.value(t, &said)
	assert.Equal(t, 3, said.Code)
	assert.Contains(t, said.Output, "level 3")
	assert.NotContains(t, said.Output, "\x1b", "what it prints commands nothing here")
	assert.Contains(t, said.Errors, "off")
	assert.Equal(t, http.StatusNotFound, c.ask("POST", "/instances/nobody/command", `{"command": "true"}`).status)
	assert.Equal(t, http.StatusBadRequest, c.ask("POST", "/instances/gauge-1/command", `{"command": ""}`).status)

	const file = "/instances/gauge-1/file?path=/srv/levels"
	data := strings.Repeat("0123456789", 1000)
	got = c.ask("PUT", file, data, "Content-Type: application/octet-stream")
	require.Equal(t, http.StatusNoContent, got.status, got.body)
	got = c.ask("GET", file, "")
	require.Equal(t, http.StatusOK, got.status, got.body)
	assert.Equal(t, data, got.body)
	part := c.ask("GET", file, "", "Range: bytes=5-14")
	assert.Equal(t, http.StatusPartialContent, part.status)
	assert.Equal(t, "5678901234", part.body)
	assert.Equal(t, "bytes 5-14/10000", part.header.Get("Content-Range"))
	assert.Equal(t, http.StatusBadRequest, c.ask("GET", "/instances/gauge-1/file?path=/srv", "").status, "a folder is no file")
	assert.Equal(t, http.StatusNotFound, c.ask("GET", "/instances/gauge-1/file?path=/srv/none", "").status)
	assert.Equal(t, http.StatusUnprocessableEntity, c.ask("PUT", "/instances/gauge-1/file?path=/srv/levels/below", "x", "Content-Type: application/octet-stream").status, "no folder is a file")
	reader := c.with(tokenOf(t, a, tokens.Wish{Name: "reads", Limit: guard.Limit{Rights: []guard.Right{guard.Read}}}))
	assert.Equal(t, http.StatusForbidden, reader.ask("GET", file, "").status)
	assert.Equal(t, http.StatusForbidden, reader.ask("POST", "/instances/gauge-1/command", `{"command": "true"}`).status)

	got = c.ask("GET", "/deployments/gauges/template", "")
	require.Equal(t, http.StatusOK, got.status, got.body)
	tree, err := source.ReadArchive(bytes.NewReader([]byte(got.body)), int64(len(got.body)))
	require.NoError(t, err)
	made, err := templates.ReadTemplate(tree.Files, "captured", tree.Root)
	require.NoError(t, err)
	assert.Empty(t, made.Diagnostics)
}

// TestRecordsAreBroughtIn lists the inventory, and brings records in once that is confirmed.
func TestRecordsAreBroughtIn(t *testing.T) {
	t.Parallel()
	_, _, c := opened(t, Usual)
	const one = `{"id":"r1","class":"instance","name":"old-gauge","site":"vega"}` + "\n"
	got := c.ask("POST", "/records", one, "Content-Type: application/jsonl")
	require.Equal(t, http.StatusOK, got.status, got.body)
	assert.JSONEq(t, `{"added": 1, "changed": 0, "same": 0}`, got.body)
	assert.NotContains(t, c.ask("GET", "/records", "").body, "old-gauge", "nothing was done")
	require.Equal(t, http.StatusOK, c.ask("POST", "/records?confirm=true", one, "Content-Type: application/jsonl").status)
	assert.Contains(t, c.ask("GET", "/records", "").body, "old-gauge")
	assert.Equal(t, http.StatusBadRequest, c.ask("POST", "/records", "{", "Content-Type: application/jsonl").status)
	got = c.ask("GET", "/account/focus", "")
	assert.NotEqual(t, http.StatusInternalServerError, got.status, got.body)
}
