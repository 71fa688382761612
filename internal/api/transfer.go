package api

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/core/inventory"
	"andamio/internal/core/ledger"
	"andamio/internal/core/printable"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/shells"
	"andamio/internal/source"
)

// OfInstance names an instance.
type OfInstance struct {
	Instance string `path:"instance" maxLength:"200" pattern:"^[^:/]+$" doc:"as a deployment shows it: its resource, host name or address"`
}

// FileAt names a file on an instance.
type FileAt struct {
	OfInstance
	Path string `query:"path" required:"true" minLength:"1" maxLength:"4096"`
}

// mostPrinted is how much of what a command prints is answered with, of each of its two outputs.
const mostPrinted = 1 << 20

// printed keeps what a command prints, as far as it is answered with.
type printed struct {
	bytes.Buffer
	cut bool
}

func (p *printed) Write(data []byte) (int, error) {
	if room := mostPrinted - p.Len(); len(data) > room {
		p.cut = true
		p.Buffer.Write(data[:room])
		return len(data), nil
	}
	return p.Buffer.Write(data)
}

// ran is what came of a command.
type ran struct {
	Code   int    `json:"code" doc:"its exit status"`
	Output string `json:"output"`
	Errors string `json:"errors"`
	Cut    bool   `json:"cut,omitempty" doc:"more was printed than is answered with"`
}

// transferOperations send files and what machines say.
func transferOperations(s *Server) {
	type command struct {
		OfInstance
		Body struct {
			Command string `json:"command" minLength:"1" maxLength:"65536"`
			Input   string `json:"input,omitempty" doc:"what it reads"`
		}
	}
	does(s, operation{id: "runCommand", method: http.MethodPost, path: "/instances/{instance}/command", summary: "Run one command on an instance, by its shell", tag: "instances", status: http.StatusOK, twins: []string{"shell"}},
		func(ctx context.Context, a *app.App, in *command) (*body[ran], error) {
			h, err := a.FindHost(ctx, in.Instance)
			if err != nil {
				return nil, err
			}
			var out, wrong printed
			code, err := a.Command(ctx, h, in.Body.Command, strings.NewReader(in.Body.Input), &out, &wrong)
			return &body[ran]{ran{code, printable.Clean(out.String()), printable.Clean(wrong.String()), out.cut || wrong.cut}}, err
		})
	gives(s, operation{id: "getFile", path: "/instances/{instance}/file", summary: "Copy a file from an instance, or a part of it by Range", tag: "instances"}, binary,
		func(ctx context.Context, a *app.App, in *FileAt, name string) error {
			_, err := a.Copy(ctx, in.Instance+":"+in.Path, name, unheard)
			return err
		})
	type put struct {
		FileAt
		Sent
	}
	takes(s, operation{id: "putFile", method: http.MethodPut, path: "/instances/{instance}/file", summary: "Copy a file to an instance", tag: "instances", status: http.StatusNoContent, upload: true, sends: binary, twins: []string{"copy"}},
		func(in *put) *Sent { return &in.Sent }, func(ctx context.Context, a *app.App, in *put, name string) (*gone, error) {
			_, err := a.Copy(ctx, name, in.Instance+":"+in.Path, unheard)
			return nil, err
		})
	does(s, operation{id: "captureDeployment", method: http.MethodGet, path: "/deployments/{deployment}/template", summary: "Make a template of what stands of a deployment, as an archive (CSAR)", tag: "deployments", answers: archives, twins: []string{"capture"}},
		func(ctx context.Context, a *app.App, in *OfDeployment) (*planned, error) {
			d, err := in.find(ctx, a)
			if err != nil {
				return nil, err
			}
			data, err := captured(ctx, a, d.ID)
			return &planned{archives, data}, err
		})
	does(s, operation{id: "exportAccount", method: http.MethodGet, path: "/account/focus", summary: "Write the account of a month, with the columns of FOCUS, as CSV (RFC 4180)", tag: "requests", answers: tables, twins: []string{"account export"}},
		func(ctx context.Context, a *app.App, in *struct {
			From time.Time `query:"from" doc:"the beginning; a month ago where nothing is said"`
			To   time.Time `query:"to" doc:"the end; now where nothing is said"`
		}) (*planned, error) {
			if err := a.Unbounded(guard.Account); err != nil {
				return nil, err
			}
			now := time.Now()
			var out bytes.Buffer
			_, err := a.ExportAccount(ctx, spanned(in.From, in.To, now), &out, now)
			return &planned{tables, out.Bytes()}, err
		})
	recordOperations(s)
}

// spanned is what an account is of, a month where nothing is said.
func spanned(from, to, now time.Time) ledger.Query {
	q := ledger.Query{From: from, To: to, By: "team"}
	if q.To.IsZero() {
		q.To = now
	}
	if q.From.IsZero() {
		q.From = q.To.AddDate(0, -1, 0)
	}
	return q
}

// recordOperations send the inventory.
func recordOperations(s *Server) {
	lists(s, "listRecords", "/records", "List the records of the inventory", "inventory", []string{"records export"}, func(r *inventory.Record) string { return r.ID },
		func(ctx context.Context, a *app.App, _ *paging) ([]inventory.Record, error) {
			inv, err := a.Reconcile(ctx)
			if err != nil {
				return nil, err
			}
			return inv.RecordedRecords, nil
		})
	does(s, operation{id: "importRecords", method: http.MethodPost, path: "/records", summary: "Bring records into the inventory, as JSON Lines", tag: "inventory", status: http.StatusOK, upload: true, twins: []string{"records import"}},
		func(ctx context.Context, a *app.App, in *struct {
			Confirm bool   `query:"confirm" doc:"they are brought in; else it is answered what that would do"`
			RawBody []byte `contentType:"application/jsonl"`
		}) (*body[*reconcile.Imported], error) {
			var would *reconcile.Imported
			err := kept("records.jsonl", in.RawBody, func(name string) (err error) {
				would, err = a.ImportRecords(ctx, name)
				return fault.Default(fault.Invalid, err)
			})
			if err == nil && in.Confirm {
				_, err = a.Import(ctx, would)
			}
			return &body[*reconcile.Imported]{would}, err
		})
}

// unheard hears how far a copy is: nobody asks.
func unheard(shells.Copied) {}

// kept has something be in a file for as long as it is needed.
func kept(name string, data []byte, use func(name string) error) error {
	return within(func(dir string) error {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, data, 0o600); err != nil {
			return err
		}
		return use(file)
	})
}

// within has a folder be there for as long as it is needed.
func within(use func(dir string) error) error {
	dir, err := os.MkdirTemp("", "andamio-api-")
	if err != nil {
		return err
	}
	return errors.Join(use(dir), os.RemoveAll(dir))
}

// captured is a template of what stands of a deployment, as an archive.
func captured(ctx context.Context, a *app.App, deployment int64) (data []byte, err error) {
	err = within(func(dir string) error {
		at := filepath.Join(dir, "template")
		if _, err := a.Capture(ctx, deployment, at); err != nil {
			return err
		}
		tree, err := source.Open(ctx, source.Place{Path: at})
		if err != nil {
			return err
		}
		defer tree.Close()
		files, err := source.All(tree.Files)
		if err != nil {
			return err
		}
		data, err = source.Pack(files, tree.Root)
		return err
	})
	return data, err
}
