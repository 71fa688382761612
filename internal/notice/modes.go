package notice

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/cloudevents/sdk-go/v2/event"
)

// The content modes of the HTTP protocol binding of CloudEvents 1.0 (section 3): an event in JSON, several in JSON, or one whose attributes are header
// fields and whose data is the body.
const (
	structured = "application/cloudevents+json"
	batched    = "application/cloudevents-batch+json"
	prefix     = "ce-"
)

// errMedia is that a body is in none of these modes.
var errMedia = errors.New("the body is no CloudEvent: it is structured (" + structured + "), batched (" + batched + "), or has ce- header fields")

// read reads the events of a request, of which each is of version 1.0 and has what an event must have.
func read(h http.Header, body []byte) ([]event.Event, error) {
	media, _, _ := mime.ParseMediaType(h.Get("Content-Type"))
	var all []event.Event
	switch {
	case media == structured:
		all = make([]event.Event, 1)
		if err := json.Unmarshal(body, &all[0]); err != nil {
			return nil, errors.New("the body is no CloudEvent 1.0")
		}
	case media == batched:
		if err := json.Unmarshal(body, &all); err != nil {
			return nil, errors.New("the body is no batch of CloudEvents 1.0")
		}
	case h.Get(prefix+"specversion") != "":
		e, err := binary(h, body)
		if err != nil {
			return nil, err
		}
		all = append(all, e)
	default:
		return nil, errMedia
	}
	for i := range all {
		if v := all[i].SpecVersion(); v != event.CloudEventsVersionV1 {
			return nil, fmt.Errorf("this is a CloudEvent of version %q; 1.0 is heard", v)
		}
		if err := all[i].Validate(); err != nil {
			return nil, errors.New("the body is no CloudEvent 1.0")
		}
	}
	return all, nil
}

// octet is one of a header field that is written out, as what is no printable ASCII is (section 3.1.3.2).
var octet = regexp.MustCompile(`%[0-9A-Fa-f]{2}`)

// spelt is an attribute as it is meant: octets that are written out stand for themselves, and what is no UTF-8 is of a client that left its letters as they
// are, which then are of ISO 8859-1, as header fields once were (RFC 9110, section 5.5).
func spelt(value string) string {
	text := octet.ReplaceAllStringFunc(value, func(x string) string {
		b, _ := hex.DecodeString(x[1:])
		return string(b)
	})
	if utf8.ValidString(text) {
		return text
	}
	runes := make([]rune, 0, len(text))
	for _, b := range []byte(text) {
		runes = append(runes, rune(b))
	}
	return string(runes)
}

// binary reads an event whose attributes are header fields.
func binary(h http.Header, body []byte) (event.Event, error) {
	if v := h.Get(prefix + "specversion"); v != event.CloudEventsVersionV1 {
		return event.Event{}, fmt.Errorf("this is a CloudEvent of version %q; 1.0 is heard", v)
	}
	whole := map[string]any{}
	for name, values := range h {
		if short, is := strings.CutPrefix(strings.ToLower(name), prefix); is && len(values) == 1 {
			whole[short] = spelt(values[0])
		}
	}
	media := h.Get("Content-Type")
	if media != "" {
		whole["datacontenttype"] = media
	}
	text, err := json.Marshal(whole)
	if err != nil {
		return event.Event{}, err
	}
	var e event.Event
	if err := json.Unmarshal(text, &e); err != nil {
		return e, errors.New("the header fields are no CloudEvent 1.0")
	}
	if len(body) == 0 {
		return e, nil
	}
	if media == "" {
		return e, errMedia
	}
	return e, e.SetData(media, body)
}

// signed is what is signed of a request: the body, and before it, in the binary mode, the attributes of the event, each in a line as NAME: VALUE by small
// letters in the order of their names, with the content type among them, and an empty line. Who changes an attribute does not have the secret.
func signed(h http.Header, body []byte) []byte {
	if h.Get(prefix+"specversion") == "" {
		return body
	}
	var lines []string
	for name, values := range h {
		name = strings.ToLower(name)
		if strings.HasPrefix(name, prefix) || name == "content-type" {
			lines = append(lines, name+": "+strings.Join(values, ","))
		}
	}
	slices.Sort(lines)
	return append([]byte(strings.Join(lines, "\n")+"\n\n"), body...)
}

// allow answers whether events may be posted here (HTTP 1.1 Web Hooks for Event Delivery 1.0, section 4): whoever has the secret may, from wherever it is.
func allow(w http.ResponseWriter, h http.Header) {
	origin := h.Get("WebHook-Request-Origin")
	if origin == "" {
		w.Header().Set("Allow", "POST, OPTIONS")
		w.WriteHeader(http.StatusNoContent)
		return
	}
	w.Header().Set("Allow", "POST, OPTIONS")
	w.Header().Set("WebHook-Allowed-Origin", "*")
	if h.Get("WebHook-Request-Rate") != "" {
		w.Header().Set("WebHook-Allowed-Rate", "*")
	}
	w.WriteHeader(http.StatusOK)
}
