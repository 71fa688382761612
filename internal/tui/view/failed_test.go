package view_test

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/tui/view"
)

// TestWhatFailedIsSaidOnceAndInWords gives errors as views get them.
func TestWhatFailedIsSaidOnceAndInWords(t *testing.T) {
	long := "no answer in time (disk or network busy?): what is shown is from before"
	for _, c := range []struct {
		err  error
		want string
	}{
		{errors.New("site vega is away"), "site vega is away"},
		{context.DeadlineExceeded, long},
		{fmt.Errorf("run 3: %w", context.DeadlineExceeded), "run 3: " + long},
		{errors.Join(context.DeadlineExceeded, nil, context.DeadlineExceeded, errors.New("no such run")), long + "; no such run"},
		{fmt.Errorf("%w, and %w", errors.New("one"), errors.New("another")), "one, and another"},
	} {
		assert.Equal(t, view.Notice{Text: c.want, Bad: true, Late: c.want == long}, view.Failed(c.err))
	}
}
