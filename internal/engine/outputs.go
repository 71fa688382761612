package engine

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"path"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/remote"
	"andamio/internal/site"
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

// newOutputs prepares for a script's outputs. The mark is made from the key that opens the instance, so that it is the
// same when what a script printed at its end is read once more, and no script can know it.
func newOutputs(want []plan.ScriptOutput, key ssh.Signer, name string) *outputs {
	mark := rand.Text()
	if sig, err := key.Sign(rand.Reader, []byte("outputs "+name)); err == nil {
		sum := sha256.Sum256(sig.Blob)
		mark = hex.EncodeToString(sum[:16])
	}
	return &outputs{want: want, mark: mark, got: map[string]string{}}
}

// before is the shell text in front of a script. If the script has ended in an earlier session, what it left is given
// out at once and it is not run a second time; if it still runs, because only the connection to it broke off, its end is
// waited for. $2 of the files' names is the same for every session of one try of the step.
const before = `andamio_kept="%[1]s"; andamio_lock="%[2]s"
andamio_again() { if [ -f "$andamio_kept.exit" ]; then cat "$andamio_kept.out"; exit "$(cat "$andamio_kept.exit")"; fi; }
andamio_again
mkdir -p "%[3]s"; chmod 700 "%[3]s"
if ! mkdir "$andamio_lock" 2>/dev/null; then
  echo "it still runs from before: its end is waited for"
  sleep 0.3
  while [ ! -f "$andamio_kept.exit" ] && kill -0 "$(cat "$andamio_lock/pid")" 2>/dev/null; do sleep 0.2; done
  andamio_again
fi
echo $$ > "$andamio_lock/pid"
`

// atEnd is the shell text that runs when a script ends: it prints the variables, and keeps them and the exit status.
const atEnd = `trap 'andamio_code=$?; { :; %[1]s} > "%[2]s.out"; cat "%[2]s.out"; echo $andamio_code > "%[2]s.new"; mv "%[2]s.new" "%[2]s.exit"; rm -rf "%[3]s"; exit $andamio_code' EXIT
`

// wrap is the shell text in front of a script whose variables are put out and whose end is kept in files of that name.
func (o *outputs) wrap(name string) string {
	kept, lock := keptAt(name)
	var print strings.Builder
	seen := map[string]bool{}
	for _, w := range o.want {
		if seen[w.Name] {
			continue
		}
		seen[w.Name] = true
		fmt.Fprintf(&print, `if [ -n "${%[1]s+set}" ]; then printf "%%s\n" "%[2]s begin %[1]s" "$%[1]s" "%[2]s end"; fi; `, w.Name, o.mark)
	}
	return fmt.Sprintf(before, kept, lock, path.Dir(kept)) + fmt.Sprintf(atEnd, print.String(), kept, lock)
}

// keptAt is where on an instance it is kept how a script ended, without an ending, and that it runs; the latter is gone
// when the instance is switched off.
func keptAt(name string) (kept, lock string) {
	sum := sha256.Sum256([]byte(name))
	id := hex.EncodeToString(sum[:12])
	return "$HOME/.andamio/" + id, "/tmp/andamio-" + id
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
			return site.Final(fmt.Errorf("%s ended without setting %s, which it is to put out", s.Script.Path, w.Name))
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

// put writes a file on an instance, by SFTP.
func put(ctx context.Context, client *remote.Client, to string, data []byte) error {
	stop := client.Within(ctx, nil)
	defer stop()
	files, err := sftp.NewClient(client.Client)
	if err != nil {
		return err
	}
	defer files.Close()
	if err := files.MkdirAll(path.Dir(to)); err != nil {
		return err
	}
	f, err := files.Create(to)
	if err != nil {
		return err
	}
	if _, err := f.Write(data); err != nil {
		return errors.Join(err, f.Close())
	}
	return f.Close()
}
