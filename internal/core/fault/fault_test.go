package fault_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"testing"

	"github.com/stretchr/testify/assert"

	"andamio/internal/core/fault"
)

func TestTheOutermostClassCounts(t *testing.T) {
	inner := fault.Unavailablef("vega does not answer: %w", io.EOF)
	for _, c := range []struct {
		err  error
		want fault.Code
	}{
		{nil, ""},
		{errors.New("odd"), fault.Unexpected},
		{inner, fault.Unavailable},
		{fmt.Errorf("while surveying: %w", inner), fault.Unavailable},
		{fault.Conflictf("it changed: %w", inner), fault.Conflict},
		{errors.Join(errors.New("odd"), inner), fault.Unavailable},
		{fmt.Errorf("asking: %w", context.DeadlineExceeded), fault.Unavailable},
		{fault.As(fault.Invalid, io.EOF), fault.Invalid},
		{fault.NotFoundf("a"), fault.NotFound}, {fault.Refusedf("a"), fault.Refused}, {fault.NotAllowedf("a"), fault.NotAllowed}, {fault.Invalidf("a"), fault.Invalid},
	} {
		assert.Equal(t, c.want, fault.CodeOf(c.err), "%v", c.err)
	}
	assert.ErrorIs(t, inner, io.EOF, "what caused it stays known")
	assert.Nil(t, fault.As(fault.Invalid, nil))
}

// A class leads whoever looks it up to the ways of telling errors apart.
func ExampleCodeOf() {
	err := fmt.Errorf("run 9: %w", fault.NotFoundf("there is no site %q", "vega"))
	fmt.Println(fault.CodeOf(err))
	fmt.Println(err)
	// Output:
	// not found
	// run 9: there is no site "vega"
}
