package sandbox

import (
	"context"
	"encoding/json"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/estate"
	"andamio/internal/site/occi/wire"
)

// curl asks a stand-in as anybody does, and returns the status and all that was answered.
func curl(t *testing.T, token string, args ...string) (status, text string) {
	t.Helper()
	if _, err := exec.LookPath("curl"); err != nil {
		t.Skip("there is no curl here")
	}
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "curl", append([]string{"-sS", "-k", "-i", "-H", "Authorization: Bearer " + token}, args...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return strings.Fields(string(out))[1], strings.ReplaceAll(string(out), "\r\n", "\n")
}

const createdInText = `Category: storage; scheme="http://schemas.ogf.org/occi/infrastructure#"; class="kind"
X-OCCI-Attribute: occi.core.title="levels \"kept\""
X-OCCI-Attribute: occi.storage.size=2.0
`

// TestThingsAreToldInEveryRendering drives a stand-in with curl, in each of the renderings of the standard.
func TestThingsAreToldInEveryRendering(t *testing.T) {
	hall := &estate.Site{Name: "hall", Kind: estate.Private, Network: estate.Ports, Pace: 1, FreeForm: true, Images: []estate.Image{{Name: "i", OS: "linux"}},
		Zones: []estate.Zone{{Name: "a", Free: estate.Capacity{Cores: 8, MemoryGiB: 8, DiskGiB: 80}, Total: estate.Capacity{Cores: 9, MemoryGiB: 9, DiskGiB: 90}}}}
	box, err := Start(Config{Estate: &estate.Estate{Currency: "cr", Sites: []*estate.Site{hall}}, Pace: 0.001, Seed: 1})
	require.NoError(t, err)
	t.Cleanup(func() { box.Close() })
	at := box.Endpoints[0]
	ask := func(args ...string) (string, string) { return curl(t, at.Token, args...) }

	status, text := ask("-H", "Content-Type: text/plain", "-H", "Accept: text/plain", "--data-binary", createdInText, at.URL+"/storage/")
	require.Equal(t, "201", status, text)
	assert.Contains(t, text, `X-OCCI-Attribute: occi.core.title="levels \"kept\""`)
	location := regexp.MustCompile(`X-OCCI-Location: http://[^/]+(/storage/\S+)`).FindStringSubmatch(text)
	require.NotNil(t, location, text)
	status, text = ask("-H", "Content-Type: text/occi", "-H", "Accept: text/occi", "-X", "POST",
		"-H", `Category: storage; scheme="http://schemas.ogf.org/occi/infrastructure#"; class="kind"`, "-H", `X-OCCI-Attribute: occi.storage.size=3, occi.core.title="a, b"`, at.URL+"/storage/")
	require.Equal(t, "201", status, text)
	assert.Contains(t, text, "\nX-Occi-Attribute: occi.storage.size=3\n")
	assert.Contains(t, text, `occi.core.title="a, b"`)

	status, text = ask("-H", "Accept: text/plain", at.URL+location[1])
	assert.Equal(t, "200", status)
	assert.Contains(t, text, `Category: storage; scheme="http://schemas.ogf.org/occi/infrastructure#"; class="kind"`)
	assert.Contains(t, text, "X-OCCI-Attribute: occi.storage.size=2\n")
	_, text = ask("-H", "Accept: text/plain", at.URL+"/storage/")
	assert.Equal(t, 2, strings.Count(text, "X-OCCI-Location: http://"), text)
	_, text = ask("-H", "Accept: text/uri-list", at.URL+"/storage/")
	assert.Contains(t, text, "Content-Type: text/uri-list")
	assert.Contains(t, text, location[1]+"\n")
	_, text = ask("-H", "Accept: text/plain", at.URL+"/-/")
	for _, want := range []string{`entity; scheme="http://schemas.ogf.org/occi/core#"; class="kind"`, `compute; scheme="http://schemas.ogf.org/occi/infrastructure#"; class="kind"; rel="http://schemas.ogf.org/occi/core#resource"; location="/compute/"; attributes="`,
		`suspend; scheme="http://schemas.ogf.org/occi/infrastructure/compute/action#"; class="action"`, `ssh_key; scheme="http://schemas.ogf.org/occi/infrastructure/credentials#"; class="mixin"`} {
		assert.Contains(t, text, want)
	}
	status, text = ask("-H", "Accept: application/json;q=0.5, text/plain;q=0.1", at.URL+location[1])
	assert.Equal(t, "200", status)
	var one wire.Resource
	_, body, _ := strings.Cut(text, "\n\n")
	require.NoError(t, json.Unmarshal([]byte(body), &one))
	assert.Equal(t, `levels "kept"`, one.Title)

	for what, c := range map[string]struct {
		status string
		args   []string
	}{
		"nothing that there is":   {"406", []string{"-H", "Accept: text/html", at.URL + "/storage/"}},
		"liked by nothing":        {"406", []string{"-H", "Accept: text/plain;q=0", at.URL + "/storage/"}},
		"of another sort":         {"415", []string{"-H", "Content-Type: application/xml", "--data", "<x/>", at.URL + "/storage/"}},
		"a category that is none": {"400", []string{"-H", "Content-Type: text/plain", "--data-binary", "Category: storage", at.URL + "/storage/"}},
		"no field":                {"400", []string{"-H", "Content-Type: text/plain", "--data-binary", "storage", at.URL + "/storage/"}},
		"a text without quotes":   {"400", []string{"-H", "Content-Type: text/plain", "--data-binary", createdInText + "X-OCCI-Attribute: occi.core.summary=water\n", at.URL + "/storage/"}},
		"an unknown mixin":        {"400", []string{"-H", "Content-Type: text/plain", "--data-binary", createdInText + "Category: gold; scheme=\"http://none.test/#\"; class=\"mixin\"\n", at.URL + "/storage/"}},
		"not there":               {"404", []string{"-H", "Accept: text/plain", at.URL + "/storage/none"}},
	} {
		status, text := ask(c.args...)
		assert.Equal(t, c.status, status, "%s: %s", what, text)
	}
	status, text = ask("-X", "DELETE", "-H", "Accept: text/plain", at.URL+location[1])
	assert.Regexp(t, "^20[04]$", status, text)
}
