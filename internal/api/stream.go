package api

import (
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humago"

	"andamio/internal/app"
	"andamio/internal/core/fault"
)

// Files that are large go to and from disks, and never through memory as a whole. They take as long as they take: what each part of them may take is bounded.

// binary is the media type of files that are sent as they are.
const binary = "application/octet-stream"

// mostHours bounds an operation by which a large file is sent.
const mostHours = 12 * time.Hour

// Sent is a large file that is sent, which is read once.
type Sent struct{ from io.Reader }

// Resolve has the file be read as it comes.
func (in *Sent) Resolve(c huma.Context) []error {
	_, w := humago.Unwrap(c)
	in.from = &coming{c.BodyReader(), http.NewResponseController(w)}
	return nil
}

var _ huma.Resolver = (*Sent)(nil)

// coming reads what comes in time.
type coming struct {
	io.Reader
	control *http.ResponseController
}

func (r *coming) Read(b []byte) (int, error) {
	now := time.Now()
	_, _ = r.control.SetReadDeadline(now.Add(partWithin)), r.control.SetWriteDeadline(now.Add(2*partWithin))
	return r.Reader.Read(b)
}

// partWithin is how long a part of a large file may take.
const partWithin = time.Minute

// going writes what goes out in time.
type going struct {
	http.ResponseWriter
	control *http.ResponseController
}

func (w *going) Write(b []byte) (int, error) {
	_ = w.control.SetWriteDeadline(time.Now().Add(partWithin))
	return w.ResponseWriter.Write(b)
}

// Unwrap is for whoever controls the connection.
func (w *going) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// errLarge says that a file is too large.
var errLarge = errors.New("it is too large")

// keep writes what is sent to a file, of no more bytes than may be.
func (in *Sent) keep(name string, most int64) error {
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(f, io.LimitReader(in.from, most+1))
	if err == nil && n > most {
		err = withStatus(http.StatusRequestEntityTooLarge, problem(fault.Invalid, errLarge.Error()))
	}
	return errors.Join(err, f.Close())
}

// takes adds an operation to which a large file is sent, which it finds in a folder of its own.
func takes[I, O any](s *Server, o operation, file func(in *I) *Sent, do func(ctx context.Context, a *app.App, in *I, name string) (*O, error)) {
	o.streams = true
	does(s, o, func(ctx context.Context, a *app.App, in *I) (out *O, err error) {
		err = within(func(dir string) error {
			name := filepath.Join(dir, "sent")
			if err := file(in).keep(name, s.limits.Large); err != nil {
				return err
			}
			out, err = do(ctx, a, in, name)
			return err
		})
		return out, err
	})
}

// gives adds an operation that answers with a large file, or a part of it (RFC 9110, section 14), which is written in a folder of its own.
func gives[I any](s *Server, o operation, media string, do func(ctx context.Context, a *app.App, in *I, name string) error) {
	s.twins = append(s.twins, Twin{o.id, o.twins})
	huma.Register(s.api, huma.Operation{OperationID: o.id, Method: http.MethodGet, Path: "/" + Version + o.path, Summary: o.summary, Tags: []string{o.tag},
		Responses: map[string]*huma.Response{"200": {Description: "the file", Content: map[string]*huma.MediaType{media: {Schema: &huma.Schema{Type: huma.TypeString, Format: "binary"}}}}}},
		func(ctx context.Context, in *I) (*huma.StreamResponse, error) {
			v := visitorOf(ctx)
			if v == nil {
				return nil, problem(fault.NotAllowed, "it is not known who asks")
			}
			ctx, cancel := context.WithTimeout(ctx, mostHours)
			defer cancel()
			dir, err := os.MkdirTemp("", "andamio-api-")
			if err != nil {
				return nil, problemOf(err)
			}
			name := filepath.Join(dir, "file")
			if err = do(ctx, v.app, in, name); err == nil {
				err = isFile(name)
			}
			if err != nil {
				return nil, problemOf(errors.Join(err, os.RemoveAll(dir)))
			}
			return &huma.StreamResponse{Body: func(c huma.Context) {
				defer os.RemoveAll(dir)
				r, w := humago.Unwrap(c)
				serveFile(&going{w, http.NewResponseController(w)}, r, name, media)
			}}, nil
		})
}

func isFile(name string) error {
	info, err := os.Stat(name)
	if err == nil && !info.Mode().IsRegular() {
		err = fault.Invalidf("that is no file")
	}
	return err
}

// serveFile answers with a file, or the part that is asked for.
func serveFile(w http.ResponseWriter, r *http.Request, name, media string) {
	f, err := os.Open(name)
	if err != nil {
		writeProblem(w, unexpected())
		return
	}
	defer f.Close()
	w.Header().Set("Content-Type", media)
	var at time.Time
	if info, err := f.Stat(); err == nil {
		at = info.ModTime()
	}
	http.ServeContent(w, r, "", at, io.ReadSeeker(f))
}
