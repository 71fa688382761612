package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"andamio/internal/core/fault"
	"andamio/internal/core/printable"
	"andamio/internal/core/tosca"
)

// usageError is a wrong use of a command.
type usageError struct{ err error }

func (u usageError) Error() string    { return u.err.Error() }
func (u usageError) Code() fault.Code { return fault.Invalid }

// wrong makes a wrong use of an error about options and words.
func wrong(err error) error {
	if err == nil || errors.As(err, new(usageError)) {
		return err
	}
	return usageError{err}
}

// demand has a command, and all below it, say in our words what it takes when it is given something else.
func demand(c *cobra.Command) {
	c.SuggestionsMinimumDistance = 2
	if takes := c.Args; takes != nil {
		c.Args = func(cmd *cobra.Command, words []string) error {
			err := takes(cmd, words)
			if err != nil && theirs(err) {
				err = misused(cmd, words)
			}
			return wrong(err)
		}
	}
	for _, below := range c.Commands() {
		demand(below)
	}
}

// theirs reports whether an error about words is of the library, which knows numbers of them alone.
func theirs(err error) bool {
	for _, begins := range []string{"accepts ", "requires at least", "unknown command"} {
		if strings.HasPrefix(err.Error(), begins) {
			return true
		}
	}
	return false
}

// misused says how a command is used that was given words that it does not take.
func misused(cmd *cobra.Command, words []string) error {
	switch {
	case useOf(cmd) == cmd.CommandPath() && cmd.HasAvailableSubCommands():
		err := fmt.Errorf("there is no command %q", cmd.CommandPath()+" "+words[0])
		if near := cmd.SuggestionsFor(words[0]); len(near) > 0 {
			return fmt.Errorf("%w; %s %s may have been meant", err, cmd.CommandPath(), strings.Join(near, " or "))
		}
		return err
	case len(words) == 0:
		return fmt.Errorf("%s needs more words; it is used as %s", cmd.CommandPath(), useOf(cmd))
	}
	return fmt.Errorf("%s does not take %s; it is used as %s", cmd.CommandPath(), printable.Count(len(words), "word"), useOf(cmd))
}

// useOf is the line of a command in its help, without what every command takes.
func useOf(cmd *cobra.Command) string { return strings.TrimSuffix(cmd.UseLine(), " [flags]") }

// classOf is the class of an error: files that are not there, or may not be read, are what they are to whoever named them.
func classOf(err error) fault.Code {
	switch code := fault.CodeOf(err); {
	case code != fault.Unexpected:
		return code
	case errors.Is(err, fs.ErrNotExist):
		return fault.NotFound
	case errors.Is(err, fs.ErrPermission):
		return fault.NotAllowed
	case errors.Is(err, fs.ErrExist):
		return fault.Conflict
	case errors.Is(err, syscall.EISDIR):
		return fault.Invalid
	}
	return fault.Unexpected
}

// spoken says in our words what the system says of a file that a command was given.
func spoken(err error) error {
	file, is := err.(*fs.PathError) //nolint:errorlint // where more is said, that stays as it is
	switch {
	case !is:
		return err
	case errors.Is(err, fs.ErrNotExist):
		return &ofFile{file, fmt.Sprintf("there is no file %q", file.Path)}
	case errors.Is(err, fs.ErrPermission):
		return &ofFile{file, fmt.Sprintf("the file %q may not be read by you", file.Path)}
	case errors.Is(err, syscall.EISDIR):
		return &ofFile{file, fmt.Sprintf("%q is a folder, and a file is meant", file.Path)}
	}
	return err
}

// ofFile is what went wrong with a file, in our words.
type ofFile struct {
	*fs.PathError
	text string
}

func (f *ofFile) Error() string { return f.text }
func (f *ofFile) Unwrap() error { return f.PathError }

// mistake is an error as programs read it.
type mistake struct {
	// Code is the class, as the exit status has it.
	Code fault.Code `json:"code"`
	// What went wrong, and why.
	What string `json:"what"`
	// Where is the place in a file, the file, or the command that it is about.
	Where string `json:"where"`
	// Hint is what to do about it; "" where nothing is known that would help.
	Hint string `json:"hint,omitempty"`
	// Notes are what else is to be said, such as that the workspace was brought up to date.
	Notes []string `json:"notes,omitempty"`
}

// mistakeOf takes an error apart. By the way in which errors are written here, what to do stands after the last semicolon.
func mistakeOf(err error, command string) mistake {
	m := mistake{Code: classOf(err), What: err.Error(), Where: command}
	var found tosca.Diagnostics
	file := (*fs.PathError)(nil)
	switch {
	case errors.As(err, &found) && len(found) > 0:
		m.Where = found[0].Pos.String()
	case errors.As(err, &file):
		m.Where = file.Path
	}
	if at := strings.LastIndex(m.What, "; "); at > 0 && !strings.Contains(m.What[at:], "\n") {
		m.What, m.Hint = m.What[:at], m.What[at+2:]
	}
	if m.Hint == "" && errors.As(err, new(usageError)) {
		m.Hint = command + " --help says what it takes"
	}
	return m
}

// note says something beside what a command prints; for programs it is kept until the end, so that they read one value.
func (s *shared) note(format string, args ...any) {
	text := printable.Clean(fmt.Sprintf(format, args...))
	if s.json {
		s.notes = append(s.notes, text)
		return
	}
	fmt.Fprintln(s.err, "note: "+text)
}

// reportNotes prints what was noted for programs when nothing else is said.
func (s *shared) reportNotes() {
	if len(s.notes) > 0 {
		s.value(map[string][]string{"notes": s.notes})
	}
}

// value prints a value beside what a command prints.
func (s *shared) value(v any) {
	text, _ := json.Marshal(v)
	fmt.Fprintln(s.err, string(printable.JSON(text)))
}

// report prints the error with which a command ended, as one value or as text.
func (s *shared) report(err error, command string) {
	if s.json {
		m := mistakeOf(err, command)
		m.Notes = s.notes
		s.value(m)
		return
	}
	s.complain(err)
	if errors.As(err, new(usageError)) {
		fmt.Fprintln(s.err, command+" --help says what it takes")
	}
}

// complain prints an error, line by line without control sequences: parts of it may come from outside.
func (s *shared) complain(err error) {
	for i, line := range strings.Split(err.Error(), "\n") {
		if i == 0 {
			line = "andamio: " + line
		}
		fmt.Fprintln(s.err, printable.Clean(line))
	}
}
