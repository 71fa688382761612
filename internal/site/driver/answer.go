package driver

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"syscall"
)

// Answer reads an answer to the question as people write it: the text itself where one field is asked for, else words and their
// texts between commas, such as "authority ca.pem, in clear". Files are read at once: what is in them is the value.
func (q *Question) Answer(text string) (Values, error) {
	if f := q.Single(); f != nil {
		value, err := f.Given(strings.TrimSpace(text))
		return said(f.Name, value), err
	}
	out := Values{}
	for _, part := range strings.Split(text, ",") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		f, rest := q.word(part)
		if f == nil {
			return nil, fmt.Errorf("%q is no answer; write %s, between commas", part, q.Forms())
		}
		value, err := f.Given(rest)
		if err != nil {
			return nil, err
		}
		out[f.Name] = value
	}
	return out, nil
}

// word is the field whose word, the longest that fits, a part of an answer begins with, and the text after it.
func (q *Question) word(part string) (best *Field, text string) {
	for i := range q.Fields {
		f := &q.Fields[i]
		rest, is := strings.CutPrefix(part, f.Word)
		switch said := strings.TrimSpace(rest); {
		case !is, best != nil && len(best.Word) > len(f.Word):
		case f.Switch && rest == "":
			best, text = f, On
		case !f.Switch && said != "" && strings.HasPrefix(rest, " "):
			best, text = f, said
		}
	}
	return best, text
}

// Forms says how an answer is written.
func (q *Question) Forms() string {
	var out []string
	for i := range q.Fields {
		f := &q.Fields[i]
		form := f.Word
		if what := f.takes(); what != "" {
			form += " " + what
		}
		out = append(out, form)
	}
	if n := len(out) - 1; n > 0 {
		out = append(out[:n-1], out[n-1]+" or "+out[n])
	}
	return strings.Join(out, ", ")
}

func (f *Field) takes() string {
	switch {
	case f.Switch:
		return ""
	case f.Takes != "":
		return f.Takes
	case f.File:
		return "FILE"
	}
	return "TEXT"
}

// Given is the value of what was given for a field: the text, or what is in the file of that name.
func (f *Field) Given(text string) (string, error) {
	if !f.File || text == "" {
		return text, nil
	}
	return ReadFile(text)
}

func said(name, value string) Values {
	if value == "" {
		return Values{}
	}
	return Values{name: value}
}

// mostFile bounds a file of certificates or keys.
const mostFile = 1 << 20

// ReadFile reads a small file of text, such as one of certificates.
func ReadFile(name string) (string, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe is not waited for
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && (!info.Mode().IsRegular() || info.Size() > mostFile) {
		err = errors.New("only plain files are read")
		if info.Mode().IsRegular() {
			err = fmt.Errorf("at most %d bytes are read", mostFile)
		}
	}
	if err != nil {
		return "", fmt.Errorf("%s cannot be read: %w", name, err)
	}
	data, err := io.ReadAll(io.LimitReader(f, mostFile))
	return string(data), err
}
