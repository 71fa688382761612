package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/testprogram"
)

// client is a session of an editor that speaks through the protocol's own library: everything that the server says it does is asked of it.
const client = `
const cp = require("child_process"), path = require("path"), url = require("url"), fs = require("fs")
const p = require("vscode-languageserver-protocol/node")
const [ , program, folder ] = process.argv
const server = cp.spawn(program, ["editor"], { stdio: ["pipe", "pipe", "inherit"] })
const c = p.createProtocolConnection(new p.StreamMessageReader(server.stdout), new p.StreamMessageWriter(server.stdin), { error: m => console.log("log", m), warn() {}, info() {}, log() {} })
const waits = []
c.onNotification(p.PublishDiagnosticsNotification.type, d => { const w = waits.shift(); if (w) w(d) })
const told = () => new Promise(r => waits.push(r))
c.onError(e => console.log("error", e[0].message))
c.listen()
const file = path.join(folder, "template.yaml"), uri = url.pathToFileURL(file).toString()
const text = fs.readFileSync(file, "utf8"), lines = text.split("\n")
const at = (part, more = 0) => { const line = lines.findIndex(l => l.includes(part)); return { line, character: lines[line].indexOf(part) + more } }
;(async () => {
  const began = await c.sendRequest(p.InitializeRequest.type, { processId: process.pid, rootUri: null, capabilities: { textDocument: { publishDiagnostics: { versionSupport: true } } } })
  console.log("initialize", Object.keys(began.capabilities).sort().join(" "), began.serverInfo.name)
  c.sendNotification(p.InitializedNotification.type, {})
  let d = told()
  c.sendNotification(p.DidOpenTextDocumentNotification.type, { textDocument: { uri, languageId: "yaml", version: 1, text } })
  d = await d
  console.log("open", d.uri === uri, d.version, d.diagnostics.length)
  const textDocument = { uri }
  const word = v => typeof v === "string" ? v : v.value
  const hover = await c.sendRequest(p.HoverRequest.type, { textDocument, position: at("type: Compute", 8) })
  console.log("hover", /tosca.nodes.Compute: a node type/.test(word(hover.contents)) || word(hover.contents), p.Range.is(hover.range ?? { start: { line: 0, character: 0 }, end: { line: 0, character: 0 } }))
  const place = await c.sendRequest(p.DefinitionRequest.type, { textDocument, position: at("host: front", 7) })
  const first = Array.isArray(place) ? place[0] : place
  console.log("definition", p.Location.is(first), lines[first.range.start.line].trim())
  const items = await c.sendRequest(p.CompletionRequest.type, { textDocument, position: at("type: Compute", 6) })
  const list = Array.isArray(items) ? items : items.items
  console.log("completion", list.some(i => i.label === "tosca.nodes.Compute") && !list.some(i => i.label === "tosca.capabilities.Compute"), list.every(i => typeof i.label === "string" && i.kind >= 1 && i.kind <= 25))
  const edits = await c.sendRequest(p.RenameRequest.type, { textDocument, position: at("front: {", 1), newName: "gate" })
  console.log("rename", Object.values(edits.changes).flat().length, Object.values(edits.changes).flat().every(e => p.TextEdit.is(e)))
  d = told()
  c.sendNotification(p.DidChangeTextDocumentNotification.type, { textDocument: { uri, version: 2 }, contentChanges: [ { text: text.replace("type: Compute", "type: Computer") } ] })
  d = await d
  console.log("change", d.version, d.diagnostics.map(x => x.code + "@" + (x.range.start.line + 1) + " " + p.Diagnostic.is(x)).join(" "))
  try { await c.sendRequest("workspace/frobnicate", {}); console.log("it does anything") } catch (e) { console.log("unknown", e.code) }
  await c.sendRequest(p.ShutdownRequest.type)
  try { await c.sendRequest(p.HoverRequest.type, { textDocument, position: at("type: Compute", 8) }); console.log("it goes on") } catch (e) { console.log("after", e.code) }
  const gone = new Promise(r => server.on("exit", r))
  c.sendNotification(p.ExitNotification.type)
  console.log("exit", await gone)
  process.exit(0)
})().catch(e => { console.log("failed", e.stack); process.exit(1) })
`

// TestTheProtocolsOwnClientIsServed has the library that editors are made with go through a session.
func TestTheProtocolsOwnClientIsServed(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "template.yaml"), []byte(`tosca_definitions_version: tosca_simple_yaml_1_3
topology_template:
  node_templates:
    front: { type: Compute }
    app:
      type: SoftwareComponent
      requirements:
        - host: front
`), 0o600))
	out := testprogram.Node(t, client, "", binary, folder)
	assert.Equal(t, []string{
		"initialize completionProvider definitionProvider hoverProvider renameProvider textDocumentSync andamio",
		"open true 1 0",
		"hover true true",
		"definition true front: { type: Compute }",
		"completion true true",
		"rename 2 true",
		"change 2 unknown-type@4 true",
		"unknown -32601",
		"after -32600",
		"exit 0",
	}, strings.Split(strings.TrimSpace(out), "\n"))
}
