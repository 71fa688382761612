// Package fault classes errors by what whoever asked can do about them. The class is for programs: the exit status of a command and the
// status of an answer over HTTP come from it alone. The text is for people: what, where, why, and what to do.
package fault

import (
	"context"
	"errors"
	"fmt"
)

// Code is the class of an error.
type Code string

// The classes.
const (
	// Invalid requests, files and values are to be mended; asking again as before is useless.
	Invalid Code = "invalid"
	// NotFound is what was named and is not there.
	NotFound Code = "not found"
	// Conflict is with what is so by now: look again, and ask anew.
	Conflict Code = "conflict"
	// Refused is what cannot be done, or may not be done by anybody, as things are.
	Refused Code = "refused"
	// NotAllowed is what this actor may not do.
	NotAllowed Code = "not allowed"
	// Unavailable is something that is needed and does not answer; later it may.
	Unavailable Code = "unavailable"
	// Unexpected is everything else: a fault of the program, or of the machine it runs on.
	Unexpected Code = "unexpected"
)

// Codes are all classes.
var Codes = []Code{Invalid, NotFound, Conflict, Refused, NotAllowed, Unavailable, Unexpected}

// Coder is an error that knows its class.
type Coder interface{ Code() Code }

// Error is an error with a class.
type Error struct {
	code Code
	err  error
}

// Error is the text for people.
func (e *Error) Error() string { return e.err.Error() }

// Unwrap is what caused it.
func (e *Error) Unwrap() error { return e.err }

// Code is the class.
func (e *Error) Code() Code { return e.code }

// As is an error with another class than it has; nil stays nil.
func As(code Code, err error) error {
	if err == nil {
		return nil
	}
	return &Error{code, err}
}

// CodeOf is the class of an error: that of the outermost error that knows one. What ended because its time was over is unavailable. Of
// several joined errors the first that knows one counts. "" is that of no error.
func CodeOf(err error) Code {
	var known Coder
	switch {
	case err == nil:
		return ""
	case errors.As(err, &known):
		return known.Code()
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, context.Canceled):
		return Unavailable
	}
	return Unexpected
}

// Invalidf, and those below, make an error of a class as [fmt.Errorf] does.
func Invalidf(format string, args ...any) error { return &Error{Invalid, fmt.Errorf(format, args...)} }

// NotFoundf is about what was named and is not there.
func NotFoundf(format string, args ...any) error {
	return &Error{NotFound, fmt.Errorf(format, args...)}
}

// Conflictf is about what is so by now.
func Conflictf(format string, args ...any) error {
	return &Error{Conflict, fmt.Errorf(format, args...)}
}

// Refusedf is about what cannot be done.
func Refusedf(format string, args ...any) error { return &Error{Refused, fmt.Errorf(format, args...)} }

// NotAllowedf is about what this actor may not do.
func NotAllowedf(format string, args ...any) error {
	return &Error{NotAllowed, fmt.Errorf(format, args...)}
}

// Unavailablef is about what does not answer.
func Unavailablef(format string, args ...any) error {
	return &Error{Unavailable, fmt.Errorf(format, args...)}
}

// Default gives a class to an error that knows none.
func Default(code Code, err error) error {
	if CodeOf(err) != Unexpected {
		return err
	}
	return As(code, err)
}
