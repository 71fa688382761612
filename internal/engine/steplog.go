package engine

import (
	"bufio"
	"fmt"
	"io"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// What a script prints is journalled at its beginning, line by line as it comes, and at its end; how many lines there were
// in between is said, and where they all are. A script that prints for ever fills neither the journal nor the memory.
const (
	headLines = 300
	tailLines = 100
	// mostLine is how many bytes of a line are kept, scanLine how long one may be until what follows is dropped.
	mostLine = 4 << 10
	scanLine = 256 << 10
)

// Archive keeps everything that a step prints, as far as its limit; Name says to people where that is. A nil one keeps
// nothing.
type Archive interface {
	io.WriteCloser
	Name() string
}

// stepLog takes the lines that a step prints.
type stepLog struct {
	e    *Engine
	s    *plan.Step
	to   Archive
	n    int
	last string
	// tail are the last lines beyond the head, as a ring.
	tail []string
}

// line takes the next line.
func (l *stepLog) line(text string) {
	text = l.e.mask.clean(text)
	if l.to != nil {
		_, _ = io.WriteString(l.to, text+"\n") // what cannot be kept is not worth failing for
	}
	if len(text) > mostLine {
		text = fmt.Sprintf("%s… (%d bytes more)", cutAt(text, mostLine), len(text)-mostLine)
	}
	l.last = text
	if l.n++; l.n <= headLines {
		l.record(text)
		return
	}
	if len(l.tail) < tailLines {
		l.tail = append(l.tail, text)
	} else {
		l.tail[(l.n-headLines-1)%tailLines] = text
	}
}

// cutAt is the beginning of a text, of at most so many bytes, cut between characters.
func cutAt(text string, n int) string {
	for n > 0 && n < len(text) && text[n]&0xc0 == 0x80 {
		n--
	}
	return text[:n]
}

func (l *stepLog) record(text string) {
	_ = l.e.record(run.Event{Kind: run.Logged, Step: l.s.ID, Resource: l.s.Resource, Text: text})
}

// end journals what was left out, and the end of it.
func (l *stepLog) end() {
	if l.to != nil {
		_ = l.to.Close()
	}
	beyond := l.n - headLines
	if beyond <= 0 {
		return
	}
	if left := beyond - len(l.tail); left > 0 {
		where := ""
		if l.to != nil {
			where = ": all of them are in " + l.to.Name()
		}
		l.record(fmt.Sprintf("(%d lines left out%s)", left, where))
	}
	for i := range l.tail {
		at := i
		if beyond > tailLines {
			at = (beyond + i) % tailLines
		}
		l.record(l.tail[at])
	}
}

// logLines takes what a script prints, and returns the last line.
func (e *Engine) logLines(s *plan.Step, out io.Reader, put *outputs) string {
	l := &stepLog{e: e, s: s}
	if e.Archive != nil {
		l.to = e.Archive(s.ID)
	}
	scan := bufio.NewReaderSize(out, 32<<10)
	for {
		text, err := longLine(scan)
		if text != "" || err == nil {
			if !put.take(text) {
				l.line(text)
			}
		}
		if err != nil {
			break
		}
	}
	l.end()
	return l.last
}

// longLine reads a line; of one that is too long, the beginning.
func longLine(r *bufio.Reader) (string, error) {
	var line []byte
	for {
		part, err := r.ReadSlice('\n')
		if room := scanLine - len(line); room > 0 {
			line = append(line, part[:min(room, len(part))]...)
		}
		switch {
		case err == bufio.ErrBufferFull:
			continue
		case err != nil:
			return string(line), err
		}
		for len(line) > 0 && (line[len(line)-1] == '\n' || line[len(line)-1] == '\r') {
			line = line[:len(line)-1]
		}
		return string(line), nil
	}
}
