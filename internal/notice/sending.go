package notice

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"
)

// PostBinary is [Post] of an event whose attributes are header fields and whose data is the body (CloudEvents 1.0, HTTP protocol binding, section 3.1). The attributes
// are signed with it, as a [Receiver] has them.
func PostBinary(ctx context.Context, client *http.Client, sink, secret string, e event.Event, at time.Time) (*http.Response, error) {
	if err := e.Validate(); err != nil {
		return nil, err
	}
	body := e.Data()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, sink, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	for name, value := range Attributes(e) {
		req.Header.Set(name, value)
	}
	req.Header.Set(HeaderTime, strconv.FormatInt(at.Unix(), 10))
	req.Header.Set(HeaderSignature, Sign(secret, at, signed(req.Header, body)))
	return client.Do(req)
}

// Attributes are those of an event as header fields of the binary mode, by their names in small letters.
func Attributes(e event.Event) map[string]string {
	out := map[string]string{"content-type": e.DataContentType()}
	for name, value := range map[string]string{"specversion": e.SpecVersion(), "id": e.ID(), "type": e.Type(), "source": e.Source(), "subject": e.Subject(), "dataschema": e.DataSchema()} {
		if value != "" {
			out[prefix+name] = spellOut(value)
		}
	}
	if !e.Time().IsZero() {
		out[prefix+"time"] = e.Time().Format(time.RFC3339Nano)
	}
	return out
}

// PostBatch is [Post] of several events in one request (CloudEvents 1.0, HTTP protocol binding, section 3.3). Of the texts of events (JSON) that [Together] took, each
// goes as it is.
func PostBatch(ctx context.Context, client *http.Client, sink, secret string, texts []json.RawMessage, at time.Time) (*http.Response, error) {
	body, err := json.Marshal(texts)
	if err != nil {
		return nil, err
	}
	return post(ctx, client, sink, secret, batched, body, at)
}

// Together is how many of some events, from the first on, fit into one request as receivers bound it (MaxBody); the first always does.
func Together(texts []json.RawMessage) int {
	size := len("[]")
	for i := range texts {
		size += len(texts[i]) + len(",")
		if i > 0 && size > MaxBody {
			return i
		}
	}
	return len(texts)
}

// spellOut is a text as a header field has it: what is no printable ASCII, and " and %, by octets (section 3.1.3.2).
func spellOut(text string) string {
	var b strings.Builder
	for _, c := range []byte(text) {
		if c <= ' ' || c >= 0x7f || c == '"' || c == '%' {
			fmt.Fprintf(&b, "%%%02X", c)
			continue
		}
		b.WriteByte(c)
	}
	return b.String()
}

// ErrNotAllowed says that a service does not let events be sent to it.
var ErrNotAllowed = errors.New("the service does not let events be sent to it")

// Handshake asks a sink whether somebody may send events to it (CloudEvents 1.0, HTTP webhook, section 4); [ErrNotAllowed] says that they may not.
func Handshake(ctx context.Context, client *http.Client, sink, origin string) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodOptions, sink, nil)
	if err != nil {
		return err
	}
	req.Header.Set("WebHook-Request-Origin", origin)
	resp, err := client.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(resp.Body, MaxBody))
	allowed := resp.Header.Get("WebHook-Allowed-Origin")
	switch {
	case resp.StatusCode >= http.StatusInternalServerError || resp.StatusCode == http.StatusTooManyRequests:
		return fmt.Errorf("the service answers %s when it is asked whether events may be sent to it", resp.Status)
	case resp.StatusCode >= 300 || allowed != "*" && !strings.EqualFold(allowed, origin):
		return fmt.Errorf("%w (%s, WebHook-Allowed-Origin %q)", ErrNotAllowed, resp.Status, allowed)
	}
	return nil
}
