package internal

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// imports lists what each of our packages imports directly, tests left out.
func imports(t *testing.T) map[string][]string {
	t.Helper()
	seen(t)
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}: {{join .Imports \" \"}}", "andamio/...").Output()
	require.NoError(t, err)
	all := map[string][]string{}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		name, list, _ := strings.Cut(line, ":")
		all[name] = strings.Fields(list)
	}
	return all
}

// seen looks at every file of ours, so that no result is taken for that of this test which is of before one of them was changed: what it has others
// look at, the go command does not know of.
func seen(t *testing.T) {
	t.Helper()
	n := 0
	require.NoError(t, filepath.WalkDir("..", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || filepath.Ext(path) != ".go" {
			return err
		}
		n++
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		return f.Close()
	}))
	require.Greater(t, n, 500)
}

// impure are packages that computation must not touch: interface, network, database, clock, file system, processes.
// The time package is allowed for its types; a test below looks for its clock.
var impure = []string{"net", "os", "io/fs", "path/filepath", "database/sql", "log", "log/slog", "syscall", "os/exec",
	"math/rand", "crypto/rand"}

func TestCoreIsPure(t *testing.T) {
	outside := map[string]bool{"go.yaml.in/yaml/v4": true, "github.com/teambition/rrule-go": true, "github.com/emersion/go-ical": true, "gonum.org/v1/gonum": true, "cel.dev/cel-go/cel": true,
		"cel.dev/cel-go/common/types": true, "cel.dev/cel-go/common/types/ref": true, "cel.dev/cel-go/common/types/traits": true,
		"mvdan.cc/sh/v3/syntax": true, "github.com/klauspost/compress/zstd": true}
	for name, list := range imports(t) {
		if !strings.HasPrefix(name, "andamio/internal/core/") || strings.HasSuffix(name, "test") {
			continue
		}
		for _, imp := range list {
			if imp == "embed" && (name == "andamio/internal/core/tosca" || name == "andamio/internal/core/rules" || name == "andamio/internal/core/mapping") {
				continue // the profile and the shipped rules are part of the program
			}
			assert.NotContains(t, impure, imp, "%s imports %s", name, imp)
			if imp != "net/netip" { // addresses are values
				assert.False(t, strings.HasPrefix(imp, "net/"), "%s imports %s", name, imp)
			}
			if strings.Contains(imp, ".") {
				assert.True(t, outside[imp], "%s imports the library %s", name, imp)
			}
		}
	}
}

func TestCoreNeverAsksTheClock(t *testing.T) {
	seen(t)
	out, err := exec.Command("grep", "-rnE", `time\.(Now|Since|Until|Sleep|After|Tick|NewTimer|NewTicker)\(`, "core", "--include=*.go", "--exclude=*_test.go").CombinedOutput()
	assert.Error(t, err, "the time is an argument: %s", out) // grep finds nothing and says so
	assert.Empty(t, string(out))
}

// layers are ours from the bottom up; a package imports only those of its own layer's allowance.
var layers = []struct {
	prefix string
	may    []string
}{
	{"andamio/internal/core/", []string{"andamio/internal/core/"}},
	{"andamio/internal/draw", []string{"andamio/internal/core/"}},
	{"andamio/internal/site/sitetest", []string{"andamio/internal/core/", "andamio/internal/site", "andamio/internal/notice"}}, // runs with tests alone
	{"andamio/internal/site/occi/occitest", nil},                                                                               // runs with tests alone
	{"andamio/internal/site", []string{"andamio/internal/reach", "andamio/internal/core/", "andamio/internal/site", "andamio/internal/web", "andamio/internal/notice", "andamio/internal/nocloud", "andamio/internal/remote"}}, // a driver posts for sites that post nothing themselves
	{"andamio/internal/notice", nil},
	{"andamio/internal/nocloud", nil},
	{"andamio/internal/durable", []string{"andamio/internal/core/fault", "andamio/internal/durable"}}, // with durabletest, which runs with tests alone
	{"andamio/internal/web", nil},
	{"andamio/internal/remote", []string{"andamio/internal/reach"}},
	{"andamio/internal/reach", nil},
	{"andamio/internal/bus", []string{"andamio/internal/notice"}},
	{"andamio/internal/tunnel", []string{"andamio/internal/core/fault"}},
	{"andamio/internal/upgrade", []string{"andamio/internal/core/fault"}},
	{"andamio/internal/session", []string{"andamio/internal/core/fault", "andamio/internal/core/printable"}},
	{"andamio/internal/service/workers", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/workspace", "andamio/internal/store", "andamio/internal/reach", "andamio/internal/tunnel", "andamio/internal/upgrade", "andamio/internal/web"}},
	{"andamio/internal/vault", []string{"andamio/internal/core/fault", "andamio/internal/durable"}},
	{"andamio/internal/names", []string{"andamio/internal/core/fault"}},
	{"andamio/internal/engine", []string{"andamio/internal/reach", "andamio/internal/core/", "andamio/internal/site", "andamio/internal/notice", "andamio/internal/names", "andamio/internal/remote"}},
	{"andamio/internal/store", []string{"andamio/internal/core/", "andamio/internal/store", "andamio/internal/durable"}}, // with storetest, which runs with tests alone,
	{"andamio/internal/sandbox", []string{"andamio/internal/core/", "andamio/internal/sandbox", "andamio/internal/site/occi/wire", "andamio/internal/nocloud", "andamio/internal/notice", "andamio/internal/durable", "andamio/internal/web"}},
	{"andamio/internal/source", []string{"andamio/internal/core/fault", "andamio/internal/web"}},
	{"andamio/internal/service/workspace", []string{"andamio/internal/reach", "andamio/internal/core/", "andamio/internal/site", "andamio/internal/vault", "andamio/internal/names", "andamio/internal/durable", "andamio/internal/web"}},
	{"andamio/internal/service/templates", []string{"andamio/internal/core/", "andamio/internal/source", "andamio/internal/store", "andamio/examples"}},
	{"andamio/internal/service/acting", []string{"andamio/internal/core/"}},
	{"andamio/internal/service/sites", []string{"andamio/internal/reach", "andamio/internal/background", "andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/workspace", "andamio/internal/site", "andamio/internal/store", "andamio/internal/names", "andamio/internal/durable", "andamio/internal/sandbox"}},
	{"andamio/internal/service/deployments", []string{"andamio/internal/reach", "andamio/internal/service/acting", "andamio/internal/core/", "andamio/internal/service/sites", "andamio/internal/service/templates", "andamio/internal/service/workspace", "andamio/internal/site", "andamio/internal/source", "andamio/internal/store", "andamio/internal/engine", "andamio/internal/draw"}},
	{"andamio/internal/service/runs", []string{"andamio/internal/background", "andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/sites", "andamio/internal/service/deployments", "andamio/internal/service/workspace", "andamio/internal/site", "andamio/internal/store", "andamio/internal/engine", "andamio/internal/notice", "andamio/internal/durable"}},
	{"andamio/internal/service/moves", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/sites", "andamio/internal/service/deployments", "andamio/internal/service/runs", "andamio/internal/service/templates", "andamio/internal/service/workspace", "andamio/internal/site", "andamio/internal/store"}},
	{"andamio/internal/service/shells", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/deployments", "andamio/internal/service/workspace", "andamio/internal/engine", "andamio/internal/remote"}},
	{"andamio/internal/service/requests", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/workspace", "andamio/internal/service/offers", "andamio/internal/service/quotas", "andamio/internal/service/deployments", "andamio/internal/service/runs", "andamio/internal/store"}},
	{"andamio/internal/service/accounts", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/deployments", "andamio/internal/service/workspace", "andamio/internal/store", "andamio/internal/draw", "andamio/internal/durable"}},
	{"andamio/internal/letter", nil},
	{"andamio/internal/identity/identitytest", nil}, // runs with tests alone
	{"andamio/internal/bus/bustest", nil},           // runs with tests alone
	{"andamio/internal/identity", []string{"andamio/internal/core/guard", "andamio/internal/core/fault", "andamio/internal/web"}},
	{"andamio/internal/service/hooks", []string{"andamio/internal/bus", "andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/workspace", "andamio/internal/store", "andamio/internal/notice", "andamio/internal/letter", "andamio/internal/web", "andamio/internal/service/deployments"}},
	{"andamio/internal/service/promises", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/sites", "andamio/internal/service/deployments", "andamio/internal/service/snapshots", "andamio/internal/service/replicas", "andamio/internal/service/runs", "andamio/internal/service/workspace", "andamio/internal/store", "andamio/internal/draw", "andamio/internal/durable"}},
	{"andamio/internal/service/snapshots", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/deployments", "andamio/internal/service/sites", "andamio/internal/site"}},
	{"andamio/internal/service/replicas", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/deployments", "andamio/internal/service/sites"}},
	{"andamio/internal/service/watch", []string{"andamio/internal/reach", "andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/deployments", "andamio/internal/service/shells", "andamio/internal/service/sites", "andamio/internal/service/workspace", "andamio/internal/draw", "andamio/internal/engine", "andamio/internal/site", "andamio/internal/store", "andamio/internal/web"}},
	{"andamio/internal/service/tokens", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/store"}},
	{"andamio/internal/reply", []string{"andamio/internal/core/", "andamio/internal/service/deployments", "andamio/internal/service/runs", "andamio/internal/service/watch", "andamio/internal/store"}},
	{"andamio/internal/api", []string{"andamio/internal/reach", "andamio/internal/tunnel", "andamio/internal/upgrade", "andamio/internal/session", "andamio/internal/web", "andamio/internal/core/", "andamio/internal/service/", "andamio/internal/app", "andamio/internal/reply", "andamio/internal/source"}},
	{"andamio/internal/service/reactions", []string{"andamio/internal/core/", "andamio/internal/service/", "andamio/internal/store"}},
	{"andamio/internal/service/fronts", []string{"andamio/internal/reach", "andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/deployments", "andamio/internal/service/sites", "andamio/internal/service/watch", "andamio/internal/service/workspace", "andamio/internal/engine", "andamio/internal/names", "andamio/internal/responder", "andamio/internal/store"}},
	{"andamio/internal/responder", []string{"andamio/internal/core/"}},
	{"andamio/internal/service/quotas", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/workspace", "andamio/internal/store"}},
	{"andamio/internal/bus/server", nil}, // runs with tests and laboratories alone
	{"andamio/internal/team", []string{"andamio/internal/app", "andamio/internal/bus/server", "andamio/internal/core/hook", "andamio/internal/durable", "andamio/internal/service/acting", "andamio/internal/service/templates", "andamio/internal/service/workspace", "andamio/internal/store/postgres/server", "andamio/internal/vault"}}, // a laboratory: runs with tests, and by hand
	{"andamio/internal/scenario", []string{"andamio/internal/core/", "andamio/internal/app", "andamio/internal/service/requests", "andamio/internal/durable", "andamio/examples"}},
	{"andamio/internal/service/offers", []string{"andamio/internal/core/", "andamio/internal/service/acting", "andamio/internal/service/sites", "andamio/internal/service/deployments", "andamio/internal/service/templates", "andamio/internal/source", "andamio/internal/store", "andamio/internal/durable"}},
	{"andamio/internal/service/reconcile", []string{"andamio/internal/core/", "andamio/internal/service/", "andamio/internal/site", "andamio/internal/store", "andamio/internal/draw"}},
	{"andamio/internal/app", []string{"andamio/internal/reach", "andamio/internal/bus", "andamio/internal/background", "andamio/internal/core/", "andamio/internal/service/", "andamio/internal/source", "andamio/internal/site", "andamio/internal/engine", "andamio/internal/store", "andamio/internal/notice", "andamio/internal/vault", "andamio/internal/names", "andamio/internal/durable", "andamio/internal/web", "andamio/internal/remote",
		"andamio/internal/sandbox", "andamio/internal/draw", "andamio/internal/identity", "andamio/examples"}},
	{"andamio/internal/tui", []string{"andamio/internal/core/", "andamio/internal/app", "andamio/internal/service/", "andamio/internal/tui"}},
	{"andamio/internal/editor", []string{"andamio/internal/core/", "andamio/internal/service/", "andamio/internal/app"}},
	{"andamio/internal/portal", []string{"andamio/internal/core/guard", "andamio/internal/app", "andamio/internal/tui"}},
	{"andamio/internal/cli", []string{"andamio/internal/reach", "andamio/internal/tunnel", "andamio/internal/upgrade", "andamio/internal/session", "andamio/internal/identity", "andamio/internal/web", "andamio/internal/api", "andamio/internal/reply", "andamio/internal/scenario", "andamio/internal/portal", "andamio/internal/core/", "andamio/internal/durable", "andamio/internal/names", "andamio/internal/editor", "andamio/internal/app", "andamio/internal/service/", "andamio/internal/sandbox", "andamio/internal/tui"}},
	{"andamio/cmd/andamio", []string{"andamio/internal/scenario", "andamio/internal/cli"}},
}

// tests are packages that are of use to tests alone, with layers of their own.
var tests = map[string]bool{"andamio/internal/site/sitetest": true, "andamio/internal/site/occi/occitest": true, "andamio/internal/identity/identitytest": true, "andamio/internal/bus/bustest": true}

// TestNobodyKnowsADriverByName holds that only the list of drivers, and the stand-ins that speak it, know one. What copies between any two is none.
func TestNobodyKnowsADriverByName(t *testing.T) {
	kit := map[string]bool{"andamio/internal/site": true, "andamio/internal/site/driver": true, "andamio/internal/site/relay": true, "andamio/internal/site/drivers": true, "andamio/internal/site/sitetest": true}
	for name, list := range imports(t) {
		if name == "andamio/internal/site/drivers" || strings.HasPrefix(name, "andamio/tools/") {
			continue
		}
		for _, imp := range list {
			if !strings.HasPrefix(imp, "andamio/internal/site/") || kit[imp] || strings.HasPrefix(name, "andamio/internal/site/") {
				continue
			}
			assert.True(t, strings.HasPrefix(name, "andamio/internal/sandbox") && imp == "andamio/internal/site/occi/wire", "%s must not import %s", name, imp)
		}
	}
}

func TestDependenciesPointDown(t *testing.T) {
	for name, list := range imports(t) {
		for _, l := range layers {
			if !strings.HasPrefix(name, l.prefix) || tests[name] != (l.prefix == name && tests[l.prefix]) {
				continue
			}
			for _, imp := range list {
				if strings.HasPrefix(imp, "andamio/") {
					assert.True(t, anyPrefix(imp, l.may), "%s must not import %s", name, imp)
				}
			}
		}
	}
}

func anyPrefix(s string, prefixes []string) bool {
	for _, p := range prefixes {
		if strings.HasPrefix(s, p) {
			return true
		}
	}
	return false
}

// inner leaves out of files those of the stores themselves.
func inner(files []string) []string {
	return slices.DeleteFunc(files, func(f string) bool { return strings.HasPrefix(f, "./store/") })
}

// TestOneFileKnowsWhichStoreItIs holds that all but the one who opens it know the store by its port alone.
func TestOneFileKnowsWhichStoreItIs(t *testing.T) {
	seen(t)
	out, err := exec.Command("grep", "-rlE", `"andamio/internal/store/(sqlite|postgres|relational)"`, ".", "--include=*.go", "--exclude=*_test.go").CombinedOutput()
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"./app/stored.go", "./app/backup.go"}, inner(strings.Fields(string(out))), "and who looks at a copy of its file")
}
