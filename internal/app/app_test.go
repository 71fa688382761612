package app

import (
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/elevation"
	"andamio/internal/core/estate"
	"andamio/internal/core/plan"
	"andamio/internal/core/run"
	"andamio/internal/core/tosca"
	"andamio/internal/engine"
	"andamio/internal/sandbox"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
	"andamio/internal/source"
	"andamio/internal/store"
	"andamio/internal/store/postgres/server"
)

var ctx = context.Background()

// pace makes the scenario run in about a second and a half.
const pace = 0.02

// aWorkspace is an open workspace connected to stand-ins of its own.
func aWorkspace(t *testing.T, pace float64) (*App, *sandbox.Sandbox) {
	t.Helper()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	return connected(t, e, pace)
}

// connected is an open workspace connected to stand-ins of an estate's sites.
func connected(t *testing.T, e *estate.Estate, pace float64) (*App, *sandbox.Sandbox) {
	t.Helper()
	return connectedTo(t, sandbox.Config{Estate: e, Pace: pace, Seed: 1})
}

// connectedTo is an open workspace connected to stand-ins.
func connectedTo(t *testing.T, cfg sandbox.Config) (*App, *sandbox.Sandbox) {
	t.Helper()
	box, err := sandbox.Start(cfg)
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	a, err := Open(ctx, aFolder(t), InProcess(ctx))
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	require.NoError(t, a.ConnectSandbox(box))
	return a, box
}

// databases has the server of those tests that have a workspace kept in a database.
var databases server.Shared

// EnvStores has all tests of this package have their workspaces be kept in PostgreSQL, where it says so.
const EnvStores = "ANDAMIO_TEST_STORES"

func TestMain(m *testing.M) {
	code := m.Run()
	databases.Close()
	os.Exit(code)
}

// aFolder is a folder for a workspace.
func aFolder(t *testing.T) string {
	t.Helper()
	if os.Getenv(EnvStores) != "postgres" {
		return t.TempDir()
	}
	return joined(t, anAddress(t), "")
}

// ofAFolder leaves a test out that does something to the files of a workspace.
func ofAFolder(t *testing.T, a *App) {
	t.Helper()
	if a.kept.machines {
		t.Skip("it is about the files of a workspace in a folder, and this one is in a database")
	}
}

var schemas atomic.Int64

// anAddress is that of a database in which there is no workspace yet.
func anAddress(t *testing.T) string {
	t.Helper()
	db, err := databases.Server()
	require.NoError(t, err)
	if db == nil {
		t.Skip("PostgreSQL is not installed: nothing is tried with it (make test installs it)")
	}
	return db.Address(fmt.Sprint("w", schemas.Add(1)))
}

// joined is a folder of a workspace that is kept in a database.
func joined(t *testing.T, address, key string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "machine")
	_, err := Join(ctx, dir, address, "", key)
	require.NoError(t, err)
	return dir
}

// draft works the scenario out, with files changed.
func draft(t *testing.T, a *App, change map[string]string) *templates.Draft {
	t.Helper()
	files := fstest.MapFS{}
	for _, pattern := range []string{"*.yaml", "scripts/*", "presets/*"} {
		names, err := filepath.Glob("../../examples/flood-watch/" + pattern)
		require.NoError(t, err)
		for _, n := range names {
			name := strings.TrimPrefix(n, "../../examples/flood-watch/")
			data, err := os.ReadFile(n)
			require.NoError(t, err)
			files[name] = &fstest.MapFile{Data: data}
		}
	}
	for name, text := range change {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	tmpl, err := templates.ReadTemplate(files, "flood-watch", "template.yaml")
	require.NoError(t, err)
	var e *estate.Estate
	require.Eventually(t, func() bool { // one that is impatient may find a loaded machine slow
		e, err = a.Estate(ctx)
		return err == nil
	}, 2*time.Minute, 50*time.Millisecond, "the sites do not say what they offer")
	d := templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, e)
	require.Zero(t, d.Diagnostics.Errors(), d.Diagnostics.Error())
	require.NoError(t, d.Err)
	return d
}

// TestActionsAreDoneInTheirTurn calls a web service before, sends a message when the map stands, and leaves out what an
// input says is not to be done.
func TestActionsAreDoneInTheirTurn(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var calls []string
	fails := 1
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		if r.URL.Path == "/ticket" && fails > 0 {
			fails--
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		assert.NotEmpty(t, r.Header.Get("Idempotency-Key"))
		calls = append(calls, fmt.Sprintf("%s %s %s", r.Method, r.URL.Path, body))
		w.WriteHeader(map[bool]int{true: http.StatusAccepted, false: http.StatusOK}[r.URL.Path == "/done"])
	}))
	defer hook.Close()
	data, err := os.ReadFile("../../examples/flood-watch/template.yaml")
	require.NoError(t, err)
	text := strings.Replace(string(data), "\n  outputs:\n", fmt.Sprintf(`
    - open-ticket:
        type: andamio.policies.Action
        properties: { when: before, url: "%[1]s/ticket", body: "building for { get_input: basin_title }" }
    - tell-channel:
        type: andamio.policies.Action
        targets: [ readings ]
        properties:
          when: during
          message: true
          url: "%[1]s/channel"
          body: { concat: [ "readings at port ", { get_attribute: [ readings, store, port ] } ] }
    - close-ticket:
        type: andamio.policies.Action
        properties: { url: "%[1]s/done", expect: 202, method: PUT }
    - never:
        type: andamio.policies.Action
        properties: { url: "%[1]s/never", if: false }

  outputs:
`, hook.URL), 1)
	a, _ := aWorkspace(t, pace)
	d := draft(t, a, map[string]string{"template.yaml": text})
	assert.Contains(t, d.Plan.Notes, "action never is not done: its condition does not hold")
	id := worked(t, a, d)
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	require.Equal(t, run.Standing, s.Status, explainRun(s))
	require.Len(t, calls, 3)
	assert.Contains(t, calls[0], "POST /ticket building for")
	assert.Regexp(t, `POST /channel .*"type":"example.andamio.message".*readings at port \d+`, calls[1])
	assert.Equal(t, "PUT /done ", calls[2])
	assert.Equal(t, 1, s.Step("action-open-ticket/act").Retries)
	for i := range s.Steps {
		if st := &s.Steps[i]; st.ID != "action-open-ticket/act" {
			assert.False(t, st.Started.Before(s.Step("action-open-ticket/act").Ended), st.ID)
		}
	}
}

func TestTheScenarioStands(t *testing.T) {
	t.Parallel()
	a, box := aWorkspace(t, pace)
	p := draft(t, a, nil).Plan
	id, err := a.NewRun(ctx, deployments.Order{Plan: p})
	require.NoError(t, err)
	var heard []run.Event
	var group sync.WaitGroup
	group.Go(func() {
		for b := range a.Watch(ctx, id, 0) {
			assert.NoError(t, b.Err)
			heard = append(heard, b.Events...)
		}
	})
	require.NoError(t, a.Work(ctx, id))
	group.Wait()
	state, err := a.Replay(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Standing, state.Status)
	assert.Equal(t, len(p.Steps), state.Done)
	assert.Equal(t, state.LastSeq, int64(len(heard)), "a watcher hears every event")
	inOrder(t, p, heard)
	for _, e := range deployments.Ask(ctx, state) {
		assert.True(t, e.Good, "%s: %s", e.Resource, e.Said)
	}
	assert.Regexp(t, `^http://127\.\d+\.\d+\.\d+:\d+/map/$`, state.Outputs["map_url"])
	calls := float64(box.Calls()) / float64(len(p.Resources))
	t.Logf("%.1f calls a resource, counted at the sites", calls)
	assert.LessOrEqual(t, calls, 6.0)
	noSecrets(t, a)
}

// inOrder checks that no step began before all it waits for were done, and each was journalled before and after.
func inOrder(t *testing.T, p *plan.Plan, events []run.Event) {
	started, done := map[string]int64{}, map[string]int64{}
	for _, e := range events {
		switch e.Kind {
		case run.StepStarted:
			started[e.Step] = e.Seq
		case run.StepDone:
			done[e.Step] = e.Seq
		}
	}
	for _, s := range p.Steps {
		require.Positive(t, started[s.ID], s.ID)
		assert.Greater(t, done[s.ID], started[s.ID], s.ID)
		for _, before := range s.After {
			assert.Greater(t, started[s.ID], done[before], "%s began before %s was done", s.ID, before)
		}
	}
}

// noSecrets looks for the scenario's secret in everything the workspace keeps: none of it has it in the open.
func noSecrets(t *testing.T, a *App) {
	t.Helper()
	secrets, err := a.workspace.Secrets([]string{"register_key"})
	require.NoError(t, err)
	var files []string
	require.NoError(t, filepath.WalkDir(a.workspace.Dir, func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			files = append(files, name)
		}
		return err
	}))
	for _, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		if strings.HasSuffix(f, ".gz") {
			data = []byte(unzipped(t, f))
		}
		if strings.HasPrefix(filepath.Base(f), "credentials.") {
			info, err := os.Stat(f)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
		}
		assert.NotContains(t, string(data), secrets["register_key"], f)
	}
}

func TestAFailedScriptHoldsItsBranchAndHidesTheSecret(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	p := draft(t, a, map[string]string{"scripts/dispatch-configure.sh": "printf 'key \\033[1m%s\\033[0m is wrong\\n' \"$KEY\"\nexit 4\n"}).Plan
	id, err := a.NewRun(ctx, deployments.Order{Plan: p})
	require.NoError(t, err)
	assert.ErrorIs(t, a.Work(ctx, id), engine.ErrUnfinished)
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Failed, s.Status)
	assert.Equal(t, "scripts/dispatch-configure.sh exited with 4: key ••• is wrong", s.Step("alert-dispatch-1/configure").Error)
	assert.Equal(t, run.Held, s.Resource("river-map-1.app_endpoint").Status)
	assert.Equal(t, run.Standing, s.Resource("gauge-intake-1").Status, "what does not stand on it goes on")
	r, err := a.store.Run(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Failed, r.State)
	noSecrets(t, a)
}

func TestACancelledRunCanBeRead(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.3)
	p := draft(t, a, nil).Plan
	id, err := a.Begin(ctx, deployments.Order{Plan: p})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		s, err := a.Replay(ctx, id)
		return err == nil && s.Done > 3
	}, 2*time.Minute, 20*time.Millisecond)
	require.NoError(t, a.Cancel(ctx, id))
	for b := range a.Watch(ctx, id, 0) {
		require.NoError(t, b.Err)
	}
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, run.Stopped, s.Status)
	assert.Contains(t, s.Text, "cancelled with")
	stopped := 0
	for i := range s.Steps {
		assert.NotEqual(t, run.UnderWay, s.Steps[i].Status, "nothing is left under way: %s", s.Steps[i].ID)
		if s.Steps[i].Status == run.Stopped {
			stopped++
		}
	}
	assert.Positive(t, stopped)
}

// flaky puts a proxy before a site that fails some of the requests.
func flaky(t *testing.T, a *App, name string, fail func(n int64, w http.ResponseWriter) bool) {
	t.Helper()
	connections, err := a.workspace.Connections()
	require.NoError(t, err)
	for i, c := range connections {
		if c.Site != name {
			continue
		}
		target, err := url.Parse(c.Address())
		require.NoError(t, err)
		proxy := httputil.NewSingleHostReverseProxy(target)
		var n atomic.Int64
		server := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if !fail(n.Add(1), w) {
				proxy.ServeHTTP(w, r)
			}
		})}
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { server.Close() })
		go func() { _ = server.Serve(l) }()
		tell(t, &connections[i], workspace.Values{"url": "http://" + l.Addr().String()})
	}
	require.NoError(t, a.workspace.SetConnections(connections))
}

func TestPassingTroubleIsSatOut(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	p := draft(t, a, nil).Plan
	flaky(t, a, "vega", func(n int64, w http.ResponseWriter) bool {
		switch {
		case n%7 == 3:
			w.WriteHeader(http.StatusServiceUnavailable)
		case n%11 == 5:
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(http.StatusTooManyRequests)
		default:
			return false
		}
		return true
	})
	id, err := a.NewRun(ctx, deployments.Order{Plan: p})
	require.NoError(t, err)
	worked := a.Work(ctx, id)
	s, err := a.Replay(ctx, id)
	require.NoError(t, err)
	retries := 0
	for i := range s.Steps {
		retries += s.Steps[i].Retries
		assert.Empty(t, s.Steps[i].Error, s.Steps[i].ID)
	}
	require.NoError(t, worked)
	assert.Positive(t, retries)
}

func TestWhatIsMissingIsSaidBeforeAnythingIsBuilt(t *testing.T) {
	a, box := aWorkspace(t, pace)
	p := draft(t, a, nil).Plan
	calls := box.Calls()
	require.NoError(t, a.workspace.SetSecrets(map[string]string{"register_key": ""}))
	_, err := a.NewRun(ctx, deployments.Order{Plan: p})
	assert.ErrorContains(t, err, "ANDAMIO_SECRET_REGISTER_KEY")
	t.Setenv("ANDAMIO_SECRET_REGISTER_KEY", "from the environment")
	require.NoError(t, a.workspace.SetConnections(nil))
	_, err = a.NewRun(ctx, deployments.Order{Plan: p})
	assert.ErrorContains(t, err, "not connected to")
	assert.Equal(t, calls, box.Calls())
	runs, err := a.store.Runs(ctx)
	require.NoError(t, err)
	assert.Empty(t, runs)
}

func TestARunIsWorkedOnOnce(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	id, err := a.NewRun(ctx, deployments.Order{Plan: draft(t, a, nil).Plan})
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, id))
	assert.ErrorContains(t, a.Work(ctx, id), "there is nothing to go on with")
	assert.Error(t, a.Work(ctx, 99))
}

func TestASilentWorkerIsNoticed(t *testing.T) {
	t.Parallel()
	now := time.Now()
	assert.True(t, runs.Abandoned(store.Run{State: run.UnderWay, Beat: now.Add(-time.Minute)}, now))
	assert.False(t, runs.Abandoned(store.Run{State: run.UnderWay, Beat: now.Add(-time.Second)}, now))
	assert.False(t, runs.Abandoned(store.Run{State: run.Standing, Beat: now.Add(-time.Hour)}, now))
}

func TestOneDeadSiteLeavesTheOthers(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, pace)
	flaky(t, a, "tramonta", func(_ int64, w http.ResponseWriter) bool {
		w.WriteHeader(http.StatusInternalServerError)
		return true
	})
	e, err := a.Estate(ctx)
	assert.ErrorContains(t, err, "tramonta")
	require.Len(t, e.Sites, 4)
	assert.NoError(t, e.Check())
}

func TestTemplatesStayInTheirFolder(t *testing.T) {
	t.Parallel()
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret.sh"), []byte("echo\n"), 0o644))
	dir := t.TempDir()
	text := "tosca_definitions_version: tosca_simple_yaml_1_3\ntopology_template:\n  node_templates:\n    h: {type: Compute, interfaces: {Standard: {start: link.sh}}}\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "template.yaml"), []byte(text), 0o644))
	require.NoError(t, os.Symlink(filepath.Join(outside, "secret.sh"), filepath.Join(dir, "link.sh")))
	tmpl, err := templates.OpenTemplate(context.Background(), source.Place{Path: dir})
	require.NoError(t, err)
	require.Len(t, tmpl.Diagnostics, 1, tmpl.Diagnostics.Error())
	assert.Equal(t, tosca.CodeArtifact, tmpl.Diagnostics[0].Code, "a link that leads out of the folder opens nothing")
	_, err = templates.OpenTemplate(context.Background(), source.Place{Path: filepath.Join(dir, "nothing.yaml")})
	assert.ErrorContains(t, err, "nothing.yaml")
	_, err = templates.OpenTemplate(context.Background(), source.Place{Path: outside})
	assert.ErrorContains(t, err, "there is no template here")
}

func TestPresets(t *testing.T) {
	t.Parallel()
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	assert.Empty(t, tmpl.Diagnostics)
	_, err = tmpl.Preset("strom-season")
	assert.ErrorContains(t, err, "drill, storm-season")
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	small, large := templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, e), templates.NewDraft(tmpl, templates.DraftRequest{Preset: "storm-season"}, e)
	assert.Less(t, len(small.Plan.Steps), len(large.Plan.Steps))
	value, diags := tosca.ParseInput("forecast_workers", "7")
	require.Empty(t, diags)
	more := templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill", Inputs: tosca.Inputs{"forecast_workers": value}}, e)
	assert.Equal(t, int64(7), more.Plan.Inputs["forecast_workers"], "an input given beside the preset wins")
	assert.Equal(t, "16 GiB", more.Plan.Inputs["store_memory"])
	tight := &estate.Estate{Version: estate.Version, Sites: e.Sites[:1]}
	none := templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, tight)
	assert.Nil(t, none.Plan)
	assert.Equal(t, tosca.CodeNotOffered, none.Diagnostics[0].Code, "found before anything is placed")
	full, err := templates.DemoEstate()
	require.NoError(t, err)
	for _, z := range full.Site("vega").Zones {
		for i := range z.Hosts {
			z.Hosts[i].Free = estate.Capacity{Cores: 1, MemoryGiB: 1, DiskGiB: 10}
		}
	}
	none = templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, full)
	assert.Nil(t, none.Plan)
	assert.ErrorContains(t, none.Err, "there is no place for")
}

func TestPicturesAreWritten(t *testing.T) {
	t.Parallel()
	tmpl, err := templates.DemoTemplate()
	require.NoError(t, err)
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	d := templates.NewDraft(tmpl, templates.DraftRequest{Preset: "drill"}, e)
	d.Plan.Name = "../flood/watch"
	files, err := deployments.ExportPictures(run.New(d.Plan), elevation.BySite, time.Now(), t.TempDir())
	require.NoError(t, err)
	require.Len(t, files, 4)
	assert.Equal(t, "---flood-watch-elevation.svg", filepath.Base(files[0]), "a name cannot lead elsewhere")
	assert.ErrorContains(t, deployments.ExportPicture(run.New(d.Plan), "portrait", elevation.BySite, time.Now(), "x.svg"), "elevation and timeline")
}

func TestTheWorkspaceFollowsXDG(t *testing.T) {
	t.Setenv("XDG_DATA_HOME", "/data")
	dir, err := workspace.DefaultDir()
	require.NoError(t, err)
	assert.Equal(t, "/data/andamio", dir)
	t.Setenv("XDG_DATA_HOME", "relative")
	t.Setenv("HOME", "/home/someone")
	dir, err = workspace.DefaultDir()
	require.NoError(t, err)
	assert.Equal(t, "/home/someone/.local/share/andamio", dir, "a relative path is not valid by the standard")
	t.Setenv("XDG_CACHE_HOME", "/cache")
	dir, err = sites.DemoDir()
	require.NoError(t, err)
	assert.Equal(t, "/cache/andamio/demo", dir)
}

func TestTheKeyStays(t *testing.T) {
	t.Parallel()
	a, err := Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer a.Close()
	first, err := a.workspace.Key()
	require.NoError(t, err)
	second, err := a.workspace.Key()
	require.NoError(t, err)
	assert.Equal(t, first.PublicKey().Marshal(), second.PublicKey().Marshal())
	require.NoError(t, a.workspace.Vault.Set(workspace.ShelfKeys, map[string]string{workspace.InstancesKey: "no key"}))
	_, err = a.workspace.Key()
	assert.ErrorContains(t, err, "is no private key")
	require.NoError(t, a.workspace.Files().Write(workspace.FileSites, []byte("{")))
	_, err = a.Sites()
	assert.ErrorContains(t, err, "sites.json is damaged")
}

func unzipped(t *testing.T, name string) string {
	t.Helper()
	f, err := os.Open(name)
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	text, err := io.ReadAll(z)
	require.NoError(t, err)
	return string(text)
}
