package api

import (
	"context"
	"net/http"
	"path"
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"andamio/internal/app"
	"andamio/internal/core/alarm"
	"andamio/internal/core/fault"
	"andamio/internal/core/money"
	"andamio/internal/core/plan"
	"andamio/internal/core/tosca"
)

// operation is one operation: how it is asked for, what it does, and which commands do the same.
type operation struct {
	id, method, path, summary, tag string
	status                         int
	// upload says that a file is sent, open that no token is needed.
	upload, open bool
	// sends is the media type of a large file that is sent; streams says that it goes to a disk as it comes.
	sends   string
	streams bool
	// answers is the media type of what is answered, where that is no value.
	answers string
	twins   []string
}

// The media types of files: those that people write, and how large one may be; archives, and tables.
const (
	written     = "application/yaml"
	archives    = "application/zip"
	tables      = "text/csv"
	mostWritten = 8 << 20
)

// unread are the media types of files, which are described as a whole by schemas of their own, or not at all.
var unread = map[string]*huma.Schema{"application/json": {Type: huma.TypeObject, Description: "as schemas/plan.schema.json says", AdditionalProperties: true}, written: {Type: huma.TypeString},
	openMetrics: {Type: huma.TypeString}, tables: {Type: huma.TypeString}, archives: {Type: huma.TypeString, Format: "binary"}}

// does adds an operation that is done for whoever asks.
func does[I, O any](s *Server, o operation, do func(ctx context.Context, a *app.App, in *I) (*O, error)) {
	s.twins = append(s.twins, Twin{o.id, o.twins})
	h := huma.Operation{OperationID: o.id, Method: o.method, Path: "/" + Version + o.path, Summary: o.summary, Tags: []string{o.tag}, DefaultStatus: o.status, MaxBodyBytes: s.limits.Body}
	if o.open {
		h.Security = []map[string][]string{}
	}
	if o.upload {
		h.MaxBodyBytes, h.SkipValidateBody = s.limits.Upload, true // it is looked at as a whole, by whoever reads such files
		if o.answers == written {
			h.MaxBodyBytes = mostWritten
		}
	}
	if o.streams { // which bounds itself
		h.MaxBodyBytes = -1
		h.RequestBody = &huma.RequestBody{Required: true, Content: map[string]*huma.MediaType{o.sends: {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}}}}
	}
	h.Responses = map[string]*huma.Response{"default": {Description: "what went wrong (RFC 9457)", Content: map[string]*huma.MediaType{
		"application/problem+json": {Schema: s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[Problem](), true, "Problem")}}}}
	if o.answers != "" {
		h.Responses["200"] = &huma.Response{Description: "OK", Content: map[string]*huma.MediaType{o.answers: {Schema: unread[o.answers]}}}
	}
	defer s.describe(&o, reflect.TypeFor[O]())
	huma.Register(s.api, h, func(ctx context.Context, in *I) (*O, error) {
		v := visitorOf(ctx)
		if v == nil { // nothing is answered to whom nobody looked at
			return nil, problem(fault.NotAllowed, "it is not known who asks")
		}
		ctx, cancel := s.patiently(ctx, o.streams)
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

// describe adds to the document what the types do not say: that a plan is sent as a value, and that what is begun or proposed is answered with another status.
func (s *Server) describe(o *operation, answers reflect.Type) {
	at := operationsOf(s.api.OpenAPI().Paths["/"+Version+o.path])[o.method]
	if at.RequestBody != nil && o.upload {
		for media, m := range at.RequestBody.Content {
			if schema := unread[media]; schema != nil {
				m.Schema = schema
			}
		}
	}
	if _, varies := answers.FieldByName("Status"); varies {
		at.Responses["201"], at.Responses["202"] = at.Responses["200"], at.Responses["200"]
	}
}

// operationsOf are the operations of a path, by method.
func operationsOf(p *huma.PathItem) map[string]*huma.Operation {
	out := map[string]*huma.Operation{}
	for method, o := range map[string]*huma.Operation{http.MethodGet: p.Get, http.MethodPost: p.Post, http.MethodPut: p.Put, http.MethodDelete: p.Delete} {
		if o != nil {
			out[method] = o
		}
	}
	return out
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

// schemas has the schemas of what is sent, some of which say by themselves how they are written.
func schemas() huma.Registry {
	r := huma.NewMapRegistry("#/components/schemas/", schemaName)
	r.RegisterTypeAlias(reflect.TypeFor[money.Amount](), reflect.TypeFor[float64]())
	r.RegisterTypeAlias(reflect.TypeFor[plan.Expr](), reflect.TypeFor[any]())
	for _, t := range []reflect.Type{reflect.TypeFor[alarm.Severity](), reflect.TypeFor[tosca.Scalar](), reflect.TypeFor[tosca.Version](), reflect.TypeFor[tosca.Timestamp]()} {
		r.RegisterTypeAlias(t, reflect.TypeFor[string]())
	}
	return r
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
