package api

import (
	"context"
	"net/http"
	"path"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"andamio/internal/app"
	"andamio/internal/core/fault"
)

// operation is one operation: how it is asked for, what it does, and which commands do the same.
type operation struct {
	id, method, path, summary, tag string
	status                         int
	// upload says that a file is sent.
	upload bool
	twins  []string
}

// does adds an operation that is done for whoever asks.
func does[I, O any](s *Server, o operation, do func(ctx context.Context, a *app.App, in *I) (*O, error)) {
	s.twins = append(s.twins, Twin{o.id, o.twins})
	h := huma.Operation{OperationID: o.id, Method: o.method, Path: "/" + Version + o.path, Summary: o.summary, Tags: []string{o.tag}, DefaultStatus: o.status, MaxBodyBytes: s.limits.Body}
	if o.upload {
		h.MaxBodyBytes, h.SkipValidateBody = s.limits.Upload, true // it is looked at as a whole, by whoever reads such files
	}
	h.Responses = map[string]*huma.Response{"default": {Description: "what went wrong (RFC 9457)", Content: map[string]*huma.MediaType{
		"application/problem+json": {Schema: s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[Problem](), true, "Problem")}}}}
	huma.Register(s.api, h, func(ctx context.Context, in *I) (*O, error) {
		v := visitorOf(ctx)
		if v == nil { // nothing is answered to whom nobody looked at
			return nil, problem(fault.NotAllowed, "it is not known who asks")
		}
		ctx, cancel := s.patiently(ctx)
		defer cancel()
		out, err := do(ctx, v.app, in)
		if err == nil {
			return out, nil
		}
		p := problemOf(err)
		if p.Code == string(fault.Unexpected) {
			s.app.Log.Error("an operation failed as none should", "operation", o.id, "err", err)
		}
		return nil, p
	})
}

// body is an answer that is one value.
type body[T any] struct{ Body T }

// nothing is what an operation takes that takes nothing.
type nothing struct{}

// gone is an answer of which there is nothing more to say.
type gone struct{}

// reads adds an operation that answers with one value.
func reads[I, T any](s *Server, id, at, summary, tag string, twins []string, read func(ctx context.Context, a *app.App, in *I) (T, error)) {
	does(s, operation{id: id, method: http.MethodGet, path: at, summary: summary, tag: tag, twins: twins}, func(ctx context.Context, a *app.App, in *I) (*body[T], error) {
		x, err := read(ctx, a, in)
		return &body[T]{x}, err
	})
}

// schemaName is what the schema of a type is called: by its package too, since several have a Status.
func schemaName(t reflect.Type, hint string) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	name := huma.DefaultSchemaNamer(t, hint)
	if t.PkgPath() == "" || t.Name() == "" || strings.HasSuffix(t.PkgPath(), "internal/api") {
		return name
	}
	of := path.Base(t.PkgPath())
	return strings.ToUpper(of[:1]) + of[1:] + name
}

// page is a part of a list.
type page[T any] struct {
	Body struct {
		Items []T `json:"items"`
		// Next is the cursor of the next page; "" if there is none.
		Next string `json:"next,omitempty" doc:"cursor of the next page; left out where there is none"`
	}
	Link string `header:"Link"`
}

// paging says which part of a list is asked for.
type paging struct {
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100" doc:"how many there are on a page"`
	Cursor string `query:"cursor" maxLength:"512" doc:"where the page begins, as the page before says"`
}

// paged cuts a page out of a list: it begins after the one that the cursor names, wherever that is by now.
func paged[T any](all []T, in paging, key func(*T) string) (*page[T], error) {
	from := 0
	if in.Cursor != "" {
		from = -1
		for i := range all {
			if key(&all[i]) == in.Cursor {
				from = i + 1
			}
		}
		if from < 0 {
			return nil, fault.Conflictf("there is nothing any more where the cursor %q was: begin anew", in.Cursor)
		}
	}
	out := &page[T]{}
	end := min(from+in.Limit, len(all))
	out.Body.Items = all[from:end]
	if end < len(all) {
		out.Body.Next = key(&all[end-1])
	}
	return out, nil
}

// lists adds an operation that answers with a page of a list.
func lists[I interface{ part() paging }, T any](s *Server, id, at, summary, tag string, twins []string, key func(*T) string, list func(ctx context.Context, a *app.App, in *I) ([]T, error)) {
	does(s, operation{id: id, method: http.MethodGet, path: at, summary: summary, tag: tag, twins: twins}, func(ctx context.Context, a *app.App, in *I) (*page[T], error) {
		all, err := list(ctx, a, in)
		if err != nil {
			return nil, err
		}
		return paged(all, (*in).part(), key)
	})
}

func (p paging) part() paging { return p }
