package engine

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/cloudevents/sdk-go/v2/event"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/notice"
	"andamio/internal/site"
)

// act calls a web service or sends a message.
func (e *Engine) act(ctx context.Context, s *plan.Step, _ *plan.Resource) error {
	a := s.Action
	url, err := a.URL.Text(e)
	if err != nil {
		return fmt.Errorf("where to is not known: %w", err)
	}
	body := ""
	if a.Body != nil {
		if body, err = a.Body.Text(e); err != nil {
			return fmt.Errorf("what to send is not known: %w", err)
		}
	}
	_, tries, _ := e.known(s)
	key := fmt.Sprintf("%s/%s/%d", e.Run, s.ID, tries)
	contentType := "application/json"
	if a.Kind == "message" {
		ev, err := notice.New(notice.TypeMessage, "https://schemas.andamio.example/runs/"+e.Run, s.Resource, time.Now(), map[string]string{"text": body})
		if err != nil {
			return err
		}
		ev.SetID(key)
		data, err := ev.MarshalJSON()
		if err != nil {
			return err
		}
		body, contentType = string(data), event.ApplicationCloudEventsJSON
	}
	return e.call(ctx, s, func() error {
		said, err := send(ctx, a, url, body, contentType, key)
		if err != nil {
			return err
		}
		return e.record(run.Event{Kind: run.Logged, Step: s.ID, Resource: s.Resource, Text: said})
	})
}

// send makes one request; an answer that is not the expected one is an error of the class that its status has.
func send(ctx context.Context, a *plan.Action, url, body, contentType, key string) (string, error) {
	method := a.Method
	if method == "" {
		method = http.MethodPost
	}
	req, err := http.NewRequestWithContext(ctx, method, url, strings.NewReader(body))
	if err != nil { // which tells the address, and a password in it
		return "", &site.Error{Site: "the web service", Doing: method, Class: site.Refused, Detail: "its address is none"}
	}
	url = req.URL.Redacted()
	req.Header.Set("Content-Type", contentType)
	req.Header.Set("Idempotency-Key", key)
	resp, err := probeClient.Do(req)
	if err != nil {
		return "", &site.Error{Site: url, Doing: method, Class: site.Transient, Detail: reason(err)}
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, maxAnswer))
	said := fmt.Sprintf("%d · %s %s: %s", resp.StatusCode, method, url, firstWords(string(text)))
	good := resp.StatusCode >= 200 && resp.StatusCode < 300
	if a.Expect != 0 {
		good = resp.StatusCode == a.Expect
	}
	if good {
		return said, nil
	}
	class := site.Refused
	if resp.StatusCode >= 500 || resp.StatusCode == http.StatusRequestTimeout || resp.StatusCode == http.StatusTooManyRequests {
		class = site.Transient
	}
	return said, &site.Error{Site: url, Doing: method, Class: class, Detail: said}
}
