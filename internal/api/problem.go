package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
)

// Problem is what went wrong (RFC 9457), with the code that commands have for it.
type Problem struct {
	// Type is a URI of the class; it is not there to be fetched.
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty"`
	Code   string `json:"code" doc:"the class, as commands say it"`
	// Errors are what is wrong with the request, part by part.
	Errors []Wrong `json:"errors,omitempty"`
}

// Wrong is what is wrong with a part of a request.
type Wrong struct {
	Where string `json:"where,omitempty"`
	What  string `json:"what"`
}

func (p *Problem) Error() string { return p.Detail }

// GetStatus is the status of the answer.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is the media type of problems.
func (*Problem) ContentType(string) string { return "application/problem+json" }

// statuses are what each class of errors is answered with (RFC 9110, section 15.5).
var statuses = map[fault.Code]int{fault.Invalid: http.StatusBadRequest, fault.NotFound: http.StatusNotFound, fault.Conflict: http.StatusConflict, fault.Refused: http.StatusUnprocessableEntity,
	fault.NotAllowed: http.StatusForbidden, fault.Unavailable: http.StatusServiceUnavailable, fault.Unexpected: http.StatusInternalServerError}

// titles say what each class is.
var titles = map[fault.Code]string{fault.Invalid: "The request is not right", fault.NotFound: "What was named is not there", fault.Conflict: "It is otherwise by now",
	fault.Refused: "It cannot be done as things are", fault.NotAllowed: "Somebody else may", fault.Unavailable: "Something does not answer; try again later", fault.Unexpected: "This should not happen"}

// problemOf is an error as a problem. Of what should not happen no more is said than that: the log of the server says the rest.
func problemOf(err error) *Problem {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	code := fault.CodeOf(err)
	if code == fault.Unexpected {
		return unexpected()
	}
	return problem(code, printable.Clean(err.Error()))
}

func problem(code fault.Code, detail string) *Problem {
	return &Problem{Type: "https://schemas.andamio.example/problems/" + strings.ReplaceAll(string(code), " ", "-"), Title: titles[code], Status: statuses[code], Detail: detail, Code: string(code)}
}

func unexpected() *Problem { return problem(fault.Unexpected, "the server's log says what it was") }

// withStatus is a problem with another status than its class has.
func withStatus(status int, p *Problem) *Problem {
	p.Status = status
	return p
}

// codeOf is the class of what the library answers with a status.
func codeOf(status int) fault.Code {
	switch {
	case status == http.StatusNotFound:
		return fault.NotFound
	case status == http.StatusRequestTimeout || status == http.StatusServiceUnavailable:
		return fault.Unavailable
	case status >= http.StatusInternalServerError:
		return fault.Unexpected
	}
	return fault.Invalid
}

func init() {
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		p := withStatus(status, problem(codeOf(status), message))
		if status == http.StatusUnprocessableEntity { // what does not hold to the document is not right, as any other that is not
			p.Status = http.StatusBadRequest
		}
		for _, err := range errs {
			var d *huma.ErrorDetail
			switch {
			case err == nil:
			case errors.As(err, &d):
				p.Errors = append(p.Errors, Wrong{d.Location, printable.Clean(d.Message)})
			default:
				p.Errors = append(p.Errors, Wrong{"", printable.Clean(err.Error())})
			}
		}
		if p.Code == string(fault.Unexpected) {
			p.Errors, p.Detail = nil, unexpected().Detail
		}
		return p
	}
	huma.NewErrorWithContext = func(_ huma.Context, status int, message string, errs ...error) huma.StatusError {
		return huma.NewError(status, message, errs...)
	}
}

func writeProblem(w http.ResponseWriter, p *Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	if p.Status == http.StatusServiceUnavailable || p.Status == http.StatusTooManyRequests {
		w.Header().Set("Retry-After", "1")
	}
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

// patiently bounds how long an operation takes.
func (s *Server) patiently(ctx context.Context, large bool) (context.Context, context.CancelFunc) {
	if large {
		return context.WithTimeout(ctx, mostHours)
	}
	return context.WithTimeout(ctx, s.limits.Patience)
}
