package engine

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"path"
	"strings"

	"golang.org/x/crypto/ssh"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
)

// outputs takes the variables that a script leaves set out of what it prints. They are printed when the shell ends,
// between lines that begin with a mark no script can know.
type outputs struct {
	want []plan.ScriptOutput
	mark string
	got  map[string]string
	open string
	text []string
}

func newOutputs(want []plan.ScriptOutput) *outputs {
	return &outputs{want: want, mark: rand.Text(), got: map[string]string{}}
}

// trap is the shell text that prints the variables at the end.
func (o *outputs) trap() string {
	if len(o.want) == 0 {
		return ""
	}
	var text strings.Builder
	text.WriteString("trap '")
	seen := map[string]bool{}
	for _, w := range o.want {
		if seen[w.Name] {
			continue
		}
		seen[w.Name] = true
		fmt.Fprintf(&text, `if [ -n "${%[1]s+set}" ]; then printf "%%s\n" "%[2]s begin %[1]s" "$%[1]s" "%[2]s end"; fi; `, w.Name, o.mark)
	}
	text.WriteString("' EXIT\n")
	return text.String()
}

// maxOutput bounds what is kept of one output.
const maxOutput = 64 << 10

// take keeps a printed line that belongs to an output; false leaves it to the log.
func (o *outputs) take(line string) bool {
	mark, rest, _ := strings.Cut(line, " ")
	switch {
	case mark == o.mark && rest == "end":
		value := strings.Join(o.text, "\n")
		o.got[o.open] = value[:min(len(value), maxOutput)]
		o.open, o.text = "", nil
	case mark == o.mark:
		o.open = strings.TrimPrefix(rest, "begin ")
	case o.open != "":
		o.text = append(o.text, line)
	default:
		return false
	}
	return true
}

// keep journals the outputs as attributes of the resources they are for.
func (e *Engine) keep(s *plan.Step, o *outputs) error {
	at := map[string]map[string]string{}
	for _, w := range o.want {
		v, ok := o.got[w.Name]
		if !ok {
			return fmt.Errorf("%s ended without setting %s, which it is to put out", s.Script.Path, w.Name)
		}
		if at[w.Resource] == nil {
			at[w.Resource] = map[string]string{}
		}
		at[w.Resource][w.Attribute] = e.mask.clean(v)
	}
	for resource, attributes := range at {
		if err := e.record(run.Event{Kind: run.Learned, Resource: resource, Attributes: maps.Clone(attributes)}); err != nil {
			return err
		}
	}
	return nil
}

// put writes a file on an instance.
func put(ctx context.Context, client *ssh.Client, to string, data []byte) error {
	session, err := client.NewSession()
	if err != nil {
		return err
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { session.Close() })
	defer stop()
	session.Stdin = bytes.NewReader(data)
	out, err := session.CombinedOutput(fmt.Sprintf("mkdir -p %s && cat > %s", quote(path.Dir(to)), quote(to)))
	if err != nil {
		return errors.Join(err, errors.New(strings.TrimSpace(string(out))))
	}
	return nil
}
