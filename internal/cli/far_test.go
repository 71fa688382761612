package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/session"
	"andamio/internal/upgrade"
)

// everyCommand calls a function for each command that does something.
func everyCommand(do func(name string, cmd *cobra.Command)) {
	var walk func(*cobra.Command)
	walk = func(cmd *cobra.Command) {
		if cmd.Runnable() {
			do(nameOf(cmd), cmd)
		}
		for _, below := range cmd.Commands() {
			walk(below)
		}
	}
	walk(newRoot(&shared{}))
}

// namesNoFile are options that speak of files and name none: what they take is switched on, or something at the server.
var namesNoFile = []string{"repo"}

// TestEveryWordThatNamesAFileIsKnown holds the commands against what is said of their files: a word that is not known to name one would be looked for where the workspace is.
func TestEveryWordThatNamesAFileIsKnown(t *testing.T) {
	t.Parallel()
	known := map[string]bool{}
	speaks := regexp.MustCompile(`\b(file|folder|archive)\b`)
	of := regexp.MustCompile(`^\[?(FILE|FOLDER|TEMPLATE|PLAN|FROM|TO)\b`)
	everyCommand(func(name string, cmd *cobra.Command) {
		known[name] = true
		if slices.Contains(atHome, name) || slices.Contains(notFromAfar, name) {
			return
		}
		words := strings.Fields(cmd.Use)[1:]
		for i, w := range words {
			if _, is := fileWords[name][i]; of.MatchString(w) && w != "TO" || name == "copy" {
				assert.True(t, is, "word %d of %q names a file", i+1, cmd.Use)
			}
		}
		cmd.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
			_, is := fileOptions[f.Name]
			is = is || strings.HasSuffix(f.Name, secretFile) || slices.Contains(namesNoFile, f.Name)
			if f.Value.Type() == "string" && speaks.MatchString(f.Usage) {
				assert.True(t, is, "%s --%s names a file: %s", name, f.Name, f.Usage)
			}
		})
	})
	for _, list := range [][]string{notFromAfar, slices.DeleteFunc(slices.Clone(atHome), func(n string) bool { return strings.HasPrefix(n, "completion") || n == "help" })} {
		for _, name := range list {
			assert.True(t, known[name], "there is no command %q", name)
		}
	}
	for name := range fileWords {
		assert.True(t, known[name], "there is no command %q", name)
	}
}

// TestWordsForTheServerAreNotPassedOn takes them out of a command wherever they stand, and nothing else.
func TestWordsForTheServerAreNotPassedOn(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"--server https://x deployments": "deployments", "deployments --server=https://x --json": "deployments --json", "--server-token f --server-authority=g site add --token-file t": "site add --token-file t",
		"shell host -- echo --server x": "shell host -- echo --server x", "": "", "--server": "", "stop a --serverless": "stop a --serverless",
	} {
		assert.Equal(t, want, strings.Join(withoutServer(strings.Fields(given)), " "), given)
	}
}

// TestLinesAreTypedUnseen types a line key by key, with what mends it.
func TestLinesAreTypedUnseen(t *testing.T) {
	t.Parallel()
	for keys, want := range map[string]string{"river\r": "river", "rivr\x7fer\n": "river", "é\x08e\x04": "e", "\x7fa\r": "a"} {
		got, err := typedLine(strings.NewReader(keys))
		assert.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err := typedLine(strings.NewReader("ri\x03ver\r"))
	assert.ErrorIs(t, err, errInterrupted)
	_, err = typedLine(strings.NewReader("river"))
	assert.Error(t, err)
	_, err = typedLine(strings.NewReader(strings.Repeat("a", 2*mostTyped)))
	assert.ErrorContains(t, err, "has no end")
}

// afar is a workspace that is served, and whoever works on it from elsewhere.
type afar struct {
	*testing.T
	ws, url, token, dir string
}

func newAfar(t *testing.T) *afar {
	t.Helper()
	x := &afar{T: t, ws: standIns(t, "0.02"), dir: t.TempDir()}
	x.url = served(t, x.ws)
	x.token = x.made("all")
	return x
}

// made makes a token, and returns its file.
func (x *afar) made(name string, more ...string) string {
	x.Helper()
	code, said := program(x.T, append([]string{"token", "make", name, "--workspace", x.ws, "--json"}, more...)...)
	require.Zero(x, code, said)
	var made struct{ Secret string }
	require.NoError(x, json.Unmarshal([]byte(said), &made))
	file := filepath.Join(x.dir, "token-"+name)
	require.NoError(x, os.WriteFile(file, []byte(made.Secret+"\n"), 0o600))
	return file
}

// there are the options that say where the workspace is.
func (x *afar) there(token string) []string {
	return []string{"--server", x.url, "--server-authority", filepath.Join(x.ws, fileAuthority), "--server-token", token}
}

// run runs a command from elsewhere, in a folder of its own, which must end with a status.
func (x *afar) run(code int, args ...string) string {
	x.Helper()
	return x.as(x.token, "", code, args...)
}

func (x *afar) as(token, typed string, code int, args ...string) string {
	x.Helper()
	cmd := exec.CommandContext(x.Context(), binary, append(x.there(token), args...)...)
	cmd.Dir, cmd.Stdin = x.dir, strings.NewReader(typed)
	var all bytes.Buffer
	cmd.Stdout, cmd.Stderr = &all, &all
	_ = cmd.Run()
	require.Equal(x, code, cmd.ProcessState.ExitCode(), "%v: %s", args, all.String())
	assert.NotContains(x, all.String(), "andamio-visit", "%v", args)
	return all.String()
}

// file is one of the folder in which commands are run.
func (x *afar) file(name string) string {
	x.Helper()
	text, err := os.ReadFile(filepath.Join(x.dir, name))
	require.NoError(x, err)
	return string(text)
}

// TestAWorkspaceIsWorkedOnFromAfar plans, raises, changes, draws, enters, copies and retires by commands that are run on another machine than the workspace's.
func TestAWorkspaceIsWorkedOnFromAfar(t *testing.T) {
	t.Parallel()
	x := newAfar(t)
	require.NoError(t, os.CopyFS(filepath.Join(x.dir, "door"), os.DirFS("../../examples/one-door")))
	assert.Contains(t, x.run(0, "check", "door"), "nothing wrong")
	assert.Contains(t, x.run(0, "plan", "door", "-o", "plan.json"), "written to plan.json; andamio run plan.json builds it")
	assert.NotContains(t, x.file("plan.json"), "/tmp/", "where it was read there is nobody's business")
	assert.Contains(t, x.run(0, "run", "plan.json", "--confirm", "one-door"), "answered by page-host-")
	assert.Contains(t, x.run(0, "deployments"), "one-door  standing")
	assert.Contains(t, x.run(0, "scale", "one-door", "page-host", "3", "--confirm", "one-door"), "page 3", "its template was kept when it was planned")
	text := strings.ReplaceAll(x.file("door/template.yaml"), "8080", "8081")
	require.NoError(t, os.WriteFile(filepath.Join(x.dir, "door", "template.yaml"), []byte(text), 0o600))
	assert.Contains(t, x.run(1, "diff", "one-door", "door/template.yaml"), "its inputs have changed: PORT")
	assert.Contains(t, x.run(1, "stop", "one-door", "page-host", "-o", "stop.json"), "nothing was done")
	assert.Contains(t, x.file("stop.json"), `"andamio.plan/1"`)

	assert.Contains(t, x.run(0, "export", "1", "-o", "door.svg"), "written: door.svg")
	assert.Contains(t, x.file("door.svg"), "<svg")
	assert.Contains(t, x.run(0, "export", "plan.json", "-o", "plan.pdf"), "written: plan.pdf")
	assert.Contains(t, x.run(2, "export", "1"), "say --output FILE")
	assert.Contains(t, x.run(0, "capture", "one-door", "like"), "written to like")
	assert.Contains(t, x.file("like/template.yaml"), "tosca_definitions_version")
	assert.Contains(t, x.run(4, "capture", "one-door", "like"), "is not empty")

	assert.Equal(t, "page-host-1\n", x.run(0, "shell", "page-host-1", "--", "cat /etc/hostname"))
	assert.Equal(t, "typed", x.as(x.token, "typed", 0, "shell", "page-host-1", "--", "cat"))
	assert.Equal(t, "no\n", x.run(5, "shell", "page-host-1", "--", "echo no >&2; exit 5"))
	x.run(0, "copy", "plan.json", "page-host-1:/tmp/plan")
	x.run(0, "copy", "page-host-1:/tmp/plan", "back.json")
	assert.Equal(t, x.file("plan.json"), x.file("back.json"))
	x.run(0, "records", "export", "records.json")
	assert.Contains(t, x.run(0, "records", "import", "records.json"), "0 ")

	assert.Contains(t, x.run(3, "plan", "nowhere"), "the template nowhere cannot be opened")
	assert.Contains(t, x.run(3, "run", "nowhere.json"), "nowhere.json")
	assert.Contains(t, x.run(2, "screens"), "there is no command")
	assert.Contains(t, x.run(2), "the screens are for a terminal")
	x.run(0, "retire", "one-door", "--confirm", "one-door")
	assert.Regexp(t, `root by command +copied page-host-1:/tmp/plan to back.json: \(with the token \w+\)`, x.run(0, "log"))
	assert.Contains(t, x.run(0, "log", "--json"), `"way":"command"`)
}

// TestWhoIsElsewhereMayNoMoreThanTheirToken refuses what a token does not allow, what is for whoever keeps the machine, and files that did not come along.
func TestWhoIsElsewhereMayNoMoreThanTheirToken(t *testing.T) {
	t.Parallel()
	x := newAfar(t)
	reader := x.made("reader", "--right", "read")
	assert.Contains(t, x.as(reader, "", 0, "site", "list"), "vega")
	x.as(reader, "", 6, "site", "remove", "vega", "--confirm", "vega")
	for _, name := range []string{"sandbox", "serve", "work", "backup x", "restore x", "workspace", "workspace copy x y", "credentials", "credentials lock", "notices", "offer publish x", "front answer"} {
		assert.Contains(t, x.run(5, strings.Fields(name)...), "is run there, without --server", name)
	}
	assert.Contains(t, x.run(2, "--workspace", x.ws, "deployments"), "names one of this machine")
	assert.Contains(t, x.as(filepath.Join(x.dir, "none"), "", 2, "deployments"), "none")
	require.NoError(t, os.WriteFile(filepath.Join(x.dir, "false"), []byte("andamio_false"), 0o600))
	assert.Contains(t, x.as(filepath.Join(x.dir, "false"), "", 6, "deployments"), "no token that holds")
	code, said := program(t, "deployments", "--server", x.url)
	assert.Equal(t, 2, code)
	assert.Contains(t, said, "show a token to the server")

	secret := filepath.Join(x.dir, "secret")
	require.NoError(t, os.WriteFile(secret, []byte(`{"version":"andamio.plan/1"}`), 0o600))
	for _, c := range []struct {
		words string
		says  string
	}{
		{"run " + secret, "did not come along"}, {"export " + secret + " -o x.svg", "did not come along"}, {"plan " + x.dir, "did not come along"}, {"records export /tmp/evil", "did not come along"},
		{"plan --repo " + x.dir, "the address of one alone"}, {"deployments --workspace " + x.dir, "not for a server to be told"}, {"deployments --server " + x.url, "not for a server to be told"},
		{"serve", "is not run from elsewhere"}, {"backup /tmp/evil", "is not run from elsewhere"}, {"work 1", "is not run from elsewhere"}, {"place --problem " + secret, "is not run from elsewhere"},
		{"credentials secret x --file " + secret, "did not come along"}, {"copy " + secret + " a:b", "did not come along"}, {"capture x /tmp/evil", "did not come along"}, {"export 1", "say --output"},
		{"site add x --url http://127.0.0.1:1 --token-file " + secret, "did not come along"},
	} {
		said, _ := x.raw(c.words)
		assert.Contains(t, said, c.says, c.words)
	}
	assert.NoFileExists(t, "/tmp/evil")
	for _, words := range []string{"", "\x00", "--", "-- -- --", "--json", strings.Repeat("a ", 1000)} {
		said, status := x.raw(words)
		assert.NotZero(t, status, "%q", said)
	}
}

// raw asks the server for words as nobody's program does: without any file.
func (x *afar) raw(words string) (said string, status int) {
	x.Helper()
	secret, err := passwordIn(x.token)
	require.NoError(x, err)
	at, err := newServerAt(x.url, filepath.Join(x.ws, fileAuthority), "", "")
	require.NoError(x, err)
	c, err := upgrade.Ask(x.Context(), session.Protocol, at.url+"/session", nil, secret, at.trust)
	require.NoError(x, err)
	var out, bad bytes.Buffer
	status, err = session.Ask(x.Context(), c, session.Asked{Words: strings.Fields(words)}, session.Here{Out: &out, Err: &bad})
	require.NoError(x, err, words)
	return out.String() + bad.String(), status
}

// TestASessionEndsWithItsToken revokes a token while a command of it goes on, and interrupts another.
func TestASessionEndsWithItsToken(t *testing.T) {
	t.Parallel()
	x := newAfar(t)
	require.NoError(t, os.CopyFS(filepath.Join(x.dir, "door"), os.DirFS("../../examples/one-door")))
	x.run(0, "plan", "door", "-o", "plan.json")
	x.run(0, "run", "plan.json", "--confirm", "one-door")
	short := x.made("short")
	begin := func(token string) (*exec.Cmd, *bytes.Buffer) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		t.Cleanup(cancel)
		cmd := exec.CommandContext(ctx, binary, append(x.there(token), "shell", "page-host-1", "--", "echo begun; sleep 50")...)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		var said bytes.Buffer
		cmd.Stderr = &said
		require.NoError(t, cmd.Start())
		until(t, out, regexp.MustCompile("begun"))
		return cmd, &said
	}
	cmd, said := begin(short)
	id := regexp.MustCompile(`andamio_(\w{10})_`).FindStringSubmatch(x.file("token-short"))[1]
	x.run(0, "token", "revoke", id)
	began := time.Now()
	assert.Error(t, cmd.Wait())
	assert.Less(t, time.Since(began), 10*time.Second)
	assert.Contains(t, said.String(), "the server is gone")

	cmd, _ = begin(x.token)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	began = time.Now()
	assert.Error(t, cmd.Wait())
	assert.Less(t, time.Since(began), 10*time.Second)
}
