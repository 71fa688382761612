package notice

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/testprogram"
)

// sending has the CloudEvents client for node send an event in each of its modes, several together, and one that it made under an older version.
const sending = `
const { CloudEvent, HTTP } = require("cloudevents"), crypto = require("crypto")
const [ , url, secret ] = process.argv
const sign = (headers, body) => {
  const at = String(Math.floor(Date.now() / 1000))
  const said = Object.entries(headers).map(([k, v]) => [k.toLowerCase(), v]).filter(([k]) => k.startsWith("ce-") || k === "content-type")
  const lines = headers["ce-id"] ? said.map(([k, v]) => k + ": " + v).sort().join("\n") + "\n\n" : ""
  const mac = crypto.createHmac("sha256", secret).update(at + ".").update(Buffer.from(lines, "latin1")).update(body).digest("hex")
  return { ...headers, "Andamio-Time": at, "Andamio-Signature": "sha256=" + mac }
}
const post = async (what, message) => {
  const body = message.body ?? ""
  const headers = sign(message.headers, body)
  const answer = await fetch(url, { method: "POST", headers, body })
  console.log(what, answer.status, (await answer.text()).trim())
}
const made = (id, more) => new CloudEvent({ id, source: "/racks/7", type: "example.andamio.resource.changed", subject: "Río alto", basin: "ribera", data: { kind: "compute", id: "c-17", state: "active", sequence: 4 }, ...more })
;(async () => {
  await post("structured", HTTP.structured(made("s1")))
  await post("binary", HTTP.binary(made("b1")))
  await post("again", HTTP.binary(made("b1")))
  await post("batch", { headers: { "content-type": "application/cloudevents-batch+json" }, body: JSON.stringify([ made("t1"), made("t2") ]) })
  const old = HTTP.structured(made("o1")); old.body = old.body.replace('"specversion":"1.0"', '"specversion":"0.3"')
  await post("old", old)
  const asked = await fetch(url, { method: "OPTIONS", headers: { "WebHook-Request-Origin": "racks.ribera.test", "WebHook-Request-Rate": "120" } })
  console.log("options", asked.status, asked.headers.get("webhook-allowed-origin"), asked.headers.get("webhook-allowed-rate"))
})()
`

// TestTheClientOfOthersIsHeard has a client that others wrote speak in every mode, with the handshake of the webhook specification.
func TestTheClientOfOthersIsHeard(t *testing.T) {
	var heard []event.Event
	r := &Receiver{Secret: "sesame", Hear: func(e event.Event) { heard = append(heard, e) }}
	server := httptest.NewServer(r)
	defer server.Close()
	out := testprogram.Node(t, sending, "", server.URL, "sesame")
	assert.Equal(t, "structured 204\nbinary 204\nagain 409 this notice was heard before\nbatch 204\nold 400 this is a CloudEvent of version \"0.3\"; 1.0 is heard\noptions 200 * *",
		strings.ReplaceAll(strings.TrimSpace(out), " \n", "\n"))
	require.Len(t, heard, 4)
	for _, e := range heard {
		var data Changed
		require.NoError(t, e.DataAs(&data), e.ID())
		assert.Equal(t, Changed{Kind: "compute", ID: "c-17", State: "active", Sequence: 4}, data)
		assert.Equal(t, "Río alto", e.Subject())
		assert.Equal(t, "ribera", e.Extensions()["basin"])
	}
}

// reading has it read what was sent, and say what it is.
const reading = `
const { HTTP } = require("cloudevents")
const message = JSON.parse(require("fs").readFileSync(0, "utf8"))
const e = HTTP.toEvent(message)
if (!HTTP.isEvent(message) || e.validate() !== true) throw new Error("it is no event")
console.log(JSON.stringify({ id: e.id, type: e.type, source: e.source, subject: e.subject, time: e.time, media: e.datacontenttype, data: e.data }))
`

// TestTheClientOfOthersReadsWhatIsSent has it take what we send for what it is.
func TestTheClientOfOthersReadsWhatIsSent(t *testing.T) {
	var message struct {
		Headers map[string]string `json:"headers"`
		Body    string            `json:"body"`
	}
	message.Headers = map[string]string{}
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, req *http.Request) {
		body, _ := io.ReadAll(req.Body)
		message.Body = string(body)
		for name := range req.Header {
			message.Headers[strings.ToLower(name)] = req.Header.Get(name)
		}
	}))
	defer server.Close()
	at := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	e, err := New(TypeMessage, "/deployments/7", "Río alto", at, map[string]any{"text": "the basin is \"watched\"", "level": 1.5})
	require.NoError(t, err)
	require.NoError(t, Send(t.Context(), server.Client(), server.URL, "sesame", e, at))
	given, err := json.Marshal(message)
	require.NoError(t, err)
	var got bytes.Buffer
	require.NoError(t, json.Compact(&got, []byte(testprogram.Node(t, reading, string(given)))))
	assert.JSONEq(t, `{"id":"`+e.ID()+`","type":"example.andamio.message","source":"/deployments/7","subject":"Río alto","time":"2026-05-04T12:00:00.000Z","media":"application/json",
		"data":{"text":"the basin is \"watched\"","level":1.5}}`, got.String())
}
