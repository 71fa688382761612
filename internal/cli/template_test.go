package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/tosca"
)

func TestTypesAreListedAndExplained(t *testing.T) {
	code, out, _ := call("types")
	assert.Zero(t, code)
	assert.Contains(t, out, "NODE TYPES")
	assert.Regexp(t, `tosca\.nodes\.network\.Network +Network`, out)
	code, out, _ = call("types", "tosca:WebServer")
	assert.Zero(t, code)
	assert.Contains(t, out, "derives from  tosca.nodes.SoftwareComponent, tosca.nodes.Root")
	assert.Contains(t, out, "Standard.start")
	code, out, _ = call("types", "Network", "--json")
	assert.Zero(t, code)
	var all []tosca.TypeExplained
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	assert.Len(t, all, 2, "there is a capability of that name too")
	code, out, _ = call("types", "--template", "../../examples/gauge-chain")
	assert.Zero(t, code)
	assert.Contains(t, out, "ribera.nodes")
	code, _, errOut := call("types", "Compote")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, `did you mean "Compute"?`)
}

func TestExplain(t *testing.T) {
	code, out, _ := call("explain", "unit-missing")
	assert.Zero(t, code)
	assert.Contains(t, out, "A size, time, frequency or bit rate without its unit.")
	assert.Contains(t, out, "    room: {type: scalar-unit.size, default: 40}")
	assert.Contains(t, out, "room: 40 has no unit")
	code, _, errOut := call("explain", "unit-mising")
	assert.Equal(t, statuses[fault.Invalid], code)
	assert.Contains(t, errOut, `did you mean "unit-missing"?`)
	code, out, _ = call("explain", "--json")
	assert.Zero(t, code)
	var all []tosca.Explanation
	require.NoError(t, json.Unmarshal([]byte(out), &all))
	assert.Len(t, all, len(tosca.Explanations))
	code, out, _ = call("explain", "not-offered")
	assert.Zero(t, code)
	assert.Contains(t, out, "with estate.json:")
	assert.Contains(t, out, "vega has small (2 cores 4 GiB)")
}

func TestPackAndBack(t *testing.T) {
	dir := t.TempDir()
	file, copied := filepath.Join(dir, "chain.csar"), filepath.Join(dir, "copy")
	code, out, errOut := call("pack", "../../examples/gauge-chain", "-o", file)
	require.Zero(t, code, errOut)
	assert.Contains(t, out, "the template is template.yaml")
	_, before, _ := call("plan", "../../examples/gauge-chain", "--estate", "../../examples/flood-watch/estate.json", "--json")
	code, after, errOut := call("plan", file, "--estate", "../../examples/flood-watch/estate.json", "--json")
	require.Zero(t, code, errOut)
	assert.Equal(t, withoutTemplate(before), withoutTemplate(after), "the archive plans as the folder does")
	code, _, errOut = call("unpack", file, "-o", copied)
	require.Zero(t, code, errOut)
	code, out, _ = call("check", copied)
	assert.Zero(t, code, out)
	code, _, errOut = call("unpack", file, "-o", copied)
	assert.Equal(t, statuses[fault.Conflict], code)
	assert.Contains(t, errOut, "is not empty; nothing was written")
	bad := filepath.Join(dir, "bad")
	require.NoError(t, os.Mkdir(bad, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(bad, "template.yaml"), []byte("tosca_definitions_version: nine\n"), 0o644))
	code, out, _ = call("pack", bad, "-o", filepath.Join(dir, "bad.csar"))
	assert.Equal(t, exitNo, code)
	assert.Contains(t, out, "[version]")
	assert.NoFileExists(t, filepath.Join(dir, "bad.csar"))
}

func TestARevisionIsChecked(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(filepath.Join(dir, "words"), os.DirFS("../../examples/words")))
	repo, err := git.PlainInit(dir, false)
	require.NoError(t, err)
	tree, err := repo.Worktree()
	require.NoError(t, err)
	_, err = tree.Add(".")
	require.NoError(t, err)
	_, err = tree.Commit("one", &git.CommitOptions{Author: &object.Signature{Name: "Ribera", Email: "r@ribera.test"}})
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(dir, "words", "template.yaml")))
	code, out, errOut := call("check", "--repo", dir, "--rev", "master", "words")
	assert.Zero(t, code, errOut)
	assert.Contains(t, out, "words: 2 node templates, nothing wrong")
	code, _, errOut = call("check", "--rev", "v1", "words")
	assert.Equal(t, statuses[fault.Invalid], code)
	assert.Contains(t, errOut, "--rev is a revision of a repository")
}

func TestDiagnosticsForEditors(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "template.yaml"), []byte("tosca_definitions_version: tosca_simple_yaml_1_3\ntopology_template:\n  node_templates:\n    héb: { type: Compute }\n    b: { type: Compte }\n"), 0o644))
	code, out, _ := call("check", dir, "--json")
	assert.Equal(t, exitNo, code)
	var got struct {
		Diagnostics []tosca.Diagnostic `json:"diagnostics"`
		Mistakes    int                `json:"mistakes"`
	}
	require.NoError(t, json.Unmarshal([]byte(out), &got))
	require.Equal(t, 2, got.Mistakes)
	assert.Equal(t, tosca.Pos{File: "template.yaml", Line: 5, Col: 16}, got.Diagnostics[1].Pos)
	assert.Equal(t, 6, got.Diagnostics[1].Width)
	assert.Equal(t, `did you mean "Compute"?`, got.Diagnostics[1].Hint)
}

func TestWorkflowsAreChosen(t *testing.T) {
	code, out, errOut := call("plan", "../../examples/by-hand", "--estate", "../../examples/flood-watch/estate.json", "--workflow", "sounding")
	assert.Equal(t, statuses[fault.Invalid], code, out)
	assert.Contains(t, errOut, "does siren-1/call:Drill.whisper.1 without")
	code, _, errOut = call("plan", "../../examples/words", "--estate", "../../examples/flood-watch/estate.json", "--workflow", "dance")
	assert.Equal(t, statuses[fault.NotFound], code)
	assert.Contains(t, errOut, `no workflow "dance"`)
}

func TestTheEditorIsServedByTheProgram(t *testing.T) {
	hello := `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{}}`
	cmd := exec.Command(binary, "editor")
	cmd.Stdin = strings.NewReader(fmt.Sprintf("Content-Length: %d\r\n\r\n%s", len(hello), hello))
	out, err := cmd.Output()
	require.NoError(t, err, "the end of the input ends the session")
	assert.Contains(t, string(out), `"hoverProvider":true`)
}
