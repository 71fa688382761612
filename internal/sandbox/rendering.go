package sandbox

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/site/occi/wire"
)

// renders are the media types that things are told in, the first where nobody asks for another.
var renders = []string{wire.ContentType, "application/json", wire.TextPlain, wire.TextOCCI, wire.URIList}

// speaksOCCI reports that a path is that of things or of the query interface, which are told in every rendering of the standard: what else there is has
// one form of its own.
func speaksOCCI(path string) bool {
	if path == wire.PathQuery || path == "/.well-known/org/ogf/occi/-/" {
		return true
	}
	term, _, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	_, is := terms[term]
	return is && term != "object" || term == "mixin" || path == wire.PathSite
}

// whole is the path of a collection that was asked for without the stroke at its end.
func whole(path string) string {
	term := strings.TrimPrefix(path, "/")
	if _, is := terms[term]; is || path+"/" == wire.PathQuery || strings.Count(path, "/") == 2 && strings.HasPrefix(path, "/mixin/") {
		return path + "/"
	}
	return path
}

// rendered has requests and answers be in the rendering that is asked for, whatever it is (GFD.223, section 3; GFD.229).
func rendered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.URL.Path = whole(r.URL.Path)
		if !speaksOCCI(r.URL.Path) {
			next.ServeHTTP(w, r)
			return
		}
		media, ok := accepted(r.Header.Get("Accept"))
		if !ok {
			refuse(w, http.StatusNotAcceptable, "things are told in %s", strings.Join(renders, ", "))
			return
		}
		if why := translated(r); why != nil {
			refuse(w, why.code, "%s", why.text)
			return
		}
		if media == wire.ContentType {
			next.ServeHTTP(w, r)
			return
		}
		kept := &answer{header: http.Header{}, code: http.StatusOK}
		next.ServeHTTP(kept, r)
		kept.as(w, r, media)
	})
}

// accepted is the media type that is liked best of those that there are (RFC 9110, section 12.5.1).
func accepted(accept string) (string, bool) {
	if strings.TrimSpace(accept) == "" {
		return renders[0], true
	}
	best, most := "", 0.0
	for part := range strings.SplitSeq(accept, ",") {
		media, params, err := mime.ParseMediaType(strings.TrimSpace(part))
		if err != nil {
			continue
		}
		liked := 1.0
		if q, err := strconv.ParseFloat(params["q"], 64); err == nil {
			liked = q
		}
		i := slices.IndexFunc(renders, func(x string) bool {
			return media == x || media == "*/*" || strings.HasSuffix(media, "/*") && strings.HasPrefix(x, strings.TrimSuffix(media, "*"))
		})
		if i >= 0 && liked > most {
			best, most = renders[i], liked
		}
	}
	return best, best != ""
}

// translated has the body of a request be in JSON, whatever it was in.
func translated(r *http.Request) *refusal {
	text := r.Header.Get("Content-Type")
	if text == "" {
		return nil
	}
	media, _, err := mime.ParseMediaType(text)
	if err != nil {
		return no(http.StatusUnsupportedMediaType, "%q is no media type", text)
	}
	var fields []wire.Field
	switch media {
	case wire.ContentType, "application/json":
		return nil
	case wire.TextPlain:
		body, err := io.ReadAll(r.Body)
		if err == nil {
			fields, err = wire.ReadLines(string(body))
		}
		if err != nil {
			return no(http.StatusBadRequest, "the body cannot be read: %v", err)
		}
	case wire.TextOCCI:
		for _, name := range []string{wire.FieldCategory, wire.FieldAttribute, wire.FieldLocation} {
			for _, value := range r.Header.Values(name) {
				for _, v := range wire.SplitFields(value) {
					fields = append(fields, wire.Field{Name: name, Value: v})
				}
			}
		}
	default:
		return no(http.StatusUnsupportedMediaType, "%s is not read; %s, %s and %s are", media, wire.ContentType, wire.TextPlain, wire.TextOCCI)
	}
	got, err := wire.ReadFields(fields)
	if err != nil {
		return no(http.StatusBadRequest, "%v", err)
	}
	var locations []string
	for _, f := range fields {
		if strings.EqualFold(f.Name, wire.FieldLocation) {
			locations = append(locations, f.Value)
		}
	}
	body := map[string]any{"locations": locations, "kind": got.Kind, "mixins": got.Mixins, "attributes": got.Attributes, "title": got.Title, "source": got.Source, "target": got.Target}
	if r.URL.Query().Get("action") != "" {
		body = map[string]any{"action": got.Kind, "attributes": got.Attributes}
	}
	data, err := json.Marshal(body)
	if err != nil {
		return no(http.StatusBadRequest, "%v", err)
	}
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(data)), int64(len(data))
	r.Header.Set("Content-Type", wire.ContentType)
	return nil
}

// answer keeps what is answered until it is told in another rendering.
type answer struct {
	header http.Header
	code   int
	body   bytes.Buffer
}

func (a *answer) Header() http.Header         { return a.header }
func (a *answer) WriteHeader(code int)        { a.code = code }
func (a *answer) Write(p []byte) (int, error) { return a.body.Write(p) }

// as tells it in a rendering.
func (a *answer) as(w http.ResponseWriter, r *http.Request, media string) {
	for name, values := range a.header {
		w.Header()[name] = values
	}
	w.Header().Set("Content-Type", media)
	if media == "application/json" {
		w.WriteHeader(a.code)
		_, _ = w.Write(a.body.Bytes())
		return
	}
	fields, locations, problem := a.fields(r)
	switch {
	case problem != "":
		w.Header().Set("Content-Type", wire.TextPlain)
		w.WriteHeader(a.code)
		fmt.Fprintln(w, problem)
	case media == wire.URIList:
		w.WriteHeader(a.code)
		for _, l := range locations {
			fmt.Fprint(w, l, "\r\n")
		}
	case media == wire.TextOCCI:
		for _, f := range fields {
			w.Header().Add(f.Name, f.Value)
		}
		w.WriteHeader(a.code)
		fmt.Fprintln(w, "OK")
	default:
		w.WriteHeader(a.code)
		for _, f := range fields {
			fmt.Fprintf(w, "%s: %s\n", f.Name, f.Value)
		}
	}
}

// fields are what is answered as fields of a text rendering, with the locations of things, or the problem that there was.
func (a *answer) fields(r *http.Request) (fields []wire.Field, locations []string, problem string) {
	if a.body.Len() == 0 {
		return nil, nil, ""
	}
	if a.code >= http.StatusBadRequest {
		var p wire.Problem
		_ = json.Unmarshal(a.body.Bytes(), &p)
		return nil, nil, p.Message
	}
	if strings.HasSuffix(r.URL.Path, wire.PathQuery) {
		var q wire.Query
		_ = json.Unmarshal(a.body.Bytes(), &q)
		for class, all := range map[string][]wire.Category{"kind": q.Kinds, "mixin": q.Mixins, "action": q.Actions} {
			for i := range all {
				fields = append(fields, all[i].Fields(class)...)
			}
		}
		slices.SortStableFunc(fields, func(a, b wire.Field) int { return strings.Compare(a.Value, b.Value) })
		return fields, nil, ""
	}
	at := func(x *wire.Resource) string {
		if strings.Contains(x.ID, "://") {
			return x.ID
		}
		return uri(r, r.URL.Path)
	}
	if strings.HasSuffix(r.URL.Path, "/") && a.code != http.StatusCreated {
		var all wire.Collection
		_ = json.Unmarshal(a.body.Bytes(), &all)
		for _, x := range slices.Concat(all.Resources, all.Links) {
			locations = append(locations, at(&x))
			fields = append(fields, wire.Field{Name: wire.FieldLocation, Value: at(&x)})
		}
		return fields, locations, ""
	}
	var one wire.Resource
	_ = json.Unmarshal(a.body.Bytes(), &one)
	fields = one.Fields()
	if a.code == http.StatusCreated {
		fields = append(fields, wire.Field{Name: wire.FieldLocation, Value: at(&one)})
	}
	return fields, []string{at(&one)}, ""
}
