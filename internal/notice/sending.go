package notice

import (
	"bytes"
	"context"
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
	for name, value := range map[string]string{"specversion": e.SpecVersion(), "id": e.ID(), "type": e.Type(), "source": e.Source(), "subject": e.Subject(), "dataschema": e.DataSchema()} {
		if value != "" {
			req.Header.Set(prefix+name, spellOut(value))
		}
	}
	if !e.Time().IsZero() {
		req.Header.Set(prefix+"time", e.Time().Format(time.RFC3339Nano))
	}
	req.Header.Set("Content-Type", e.DataContentType())
	req.Header.Set(HeaderTime, strconv.FormatInt(at.Unix(), 10))
	req.Header.Set(HeaderSignature, Sign(secret, at, signed(req.Header, body)))
	return client.Do(req)
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
