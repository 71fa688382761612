package api

import (
	"context"
	"maps"
	"net/http"
	"slices"
	"sync"

	"andamio/internal/app"
	"andamio/internal/core/fault"
)

// setting is how each file is set by which a workspace is told how things are to be.
var setting = map[string]func(ctx context.Context, a *app.App, text []byte) error{
	"teams": func(ctx context.Context, a *app.App, text []byte) error {
		_, err := a.SetDirectory(ctx, text)
		return err
	},
	"quotas": func(ctx context.Context, a *app.App, text []byte) error { _, err := a.SetQuotas(ctx, text); return err },
	"approvals": func(ctx context.Context, a *app.App, text []byte) error {
		_, err := a.SetApprovals(ctx, text)
		return err
	},
	"rates":  func(ctx context.Context, a *app.App, text []byte) error { _, err := a.SetRates(ctx, text); return err },
	"hooks":  func(ctx context.Context, a *app.App, text []byte) error { _, err := a.SetHooks(ctx, text); return err },
	"levels": func(ctx context.Context, a *app.App, text []byte) error { _, err := a.SetLevels(ctx, text); return err },
	"windows": func(ctx context.Context, a *app.App, text []byte) error {
		_, err := a.SetWindows(ctx, text)
		return err
	},
	"thresholds": func(ctx context.Context, a *app.App, text []byte) error {
		_, err := a.SetThresholds(ctx, text)
		return err
	},
	"reactions": func(ctx context.Context, a *app.App, text []byte) error {
		_, err := a.SetReactions(ctx, text)
		return err
	},
	"fronts": func(ctx context.Context, a *app.App, text []byte) error { _, err := a.SetFronts(ctx, text); return err },
}

// fileTwins are the commands that write each.
var fileTwins = map[string][]string{"teams": {"team set"}, "quotas": {"quota set"}, "approvals": {"decide rules"}, "rates": {"account rates"}, "hooks": {"hook set"}, "levels": {"level set"}, "windows": {"calendar windows"},
	"thresholds": {"threshold set"}, "reactions": {"reaction set"}, "fronts": {"front set"}}

// text is a file as somebody wrote it.
type text struct {
	ContentType string `header:"Content-Type"`
	ETag        string `header:"ETag"`
	Body        []byte
}

// write is a file that is to take the place of the one that there is.
type write struct {
	IfMatch     string `header:"If-Match" doc:"the ETag of the file that this takes the place of"`
	IfNoneMatch string `header:"If-None-Match" doc:"*, where nobody wrote one yet"`
	RawBody     []byte `contentType:"application/yaml"`
}

// fileOperations are those on the files by which a workspace is told how things are to be.
func fileOperations(s *Server) {
	var one sync.Mutex // of two that write at once one is told that it is otherwise by now
	for _, word := range slices.Sorted(maps.Keys(setting)) {
		at := "/files/" + word
		does(s, operation{id: "getFileOf_" + word, method: http.MethodGet, path: at, summary: "Show the file of " + word + " as somebody wrote it", tag: "files", answers: written}, func(_ context.Context, a *app.App, _ *nothing) (*text, error) {
			data, err := a.WrittenText(word)
			if err != nil {
				return nil, err
			}
			return &text{"application/yaml", tagOf(data), data}, nil
		})
		does(s, operation{id: "setFileOf_" + word, method: http.MethodPut, path: at, summary: "Set the file of " + word + ", if it is right and nobody changed it since", tag: "files", status: http.StatusOK, upload: true, answers: written, twins: fileTwins[word]},
			func(ctx context.Context, a *app.App, in *write) (*text, error) {
				one.Lock()
				defer one.Unlock()
				if err := asExpected(a, word, in); err != nil {
					return nil, err
				}
				if err := setting[word](ctx, a, in.RawBody); err != nil {
					return nil, err
				}
				return &text{"application/yaml", tagOf(in.RawBody), in.RawBody}, nil
			})
	}
}

// asExpected says that a file is otherwise than whoever writes it expects (RFC 9110, section 13.1.1; RFC 6585, section 3).
func asExpected(a *app.App, word string, in *write) error {
	data, err := a.WrittenText(word)
	none := fault.CodeOf(err) == fault.NotFound
	switch {
	case err != nil && !none:
		return err
	case in.IfMatch == "" && in.IfNoneMatch == "":
		return withStatus(http.StatusPreconditionRequired, problem(fault.Conflict, "say by If-Match which file this takes the place of, or by If-None-Match: * that there is none"))
	case none && in.IfMatch != "", !none && in.IfMatch == "", !none && !fits(in.IfMatch, tagOf(data)):
		return withStatus(http.StatusPreconditionFailed, problem(fault.Conflict, "the file of "+word+" is otherwise by now: look at it again"))
	}
	return nil
}
