package problem

import (
	"encoding/json"
	"errors"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/placement"
)

var update = flag.Bool("update", false, "rewrite the recorded answer")

const folder = "../../../examples/placement"

func open(name string) ([]byte, error) { return os.ReadFile(filepath.Join(folder, name)) }

func basin(t *testing.T) string {
	t.Helper()
	data, err := open("basin.yaml")
	require.NoError(t, err)
	return string(data)
}

func TestTheExampleIsAnsweredAsRecorded(t *testing.T) {
	f, p, err := Read([]byte(basin(t)), open)
	require.NoError(t, err)
	assert.Len(t, p.Workloads, 20)
	assert.Len(t, p.Traffic, 1+8+4+8, "every instance has one of the other")
	got, err := placement.Solve(*p, placement.Options{})
	require.NoError(t, err)
	assert.True(t, got.Proven)
	data, err := json.MarshalIndent(Answered(f.Name, p, got), "", "  ")
	require.NoError(t, err)
	file := "testdata/basin.placement.json"
	if *update {
		require.NoError(t, os.WriteFile(file, append(data, '\n'), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.JSONEq(t, string(want), string(data), "run with -update if the change is meant")
}

func TestEveryMistakeIsSaidWithItsPlace(t *testing.T) {
	good := basin(t)
	for change, says := range map[[2]string]string{
		{"andamio.problem/1", "andamio.problem/9"}:                       `version: "andamio.problem/9" is not read`,
		{"name: gauge-node", "nom: gauge-node"}:                          `unknown field "nom"`,
		{"estate_file: estate.json", ""}:                                 "the problem has no sites",
		{"estate_file: estate.json", "estate_file: none.json"}:           "estate_file: ",
		{"name: readings-host", "name: gauge-node"}:                      `workloads[1].name: "gauge-node" is empty or used twice`,
		{"cores: 2, memory_gib: 4, disk_gib: 36", "cores: -2"}:           "workloads[0].needs.cores: -2 is negative",
		{"volumes_gib: 500", "volumes_gib: 5000"}:                        "workloads[1].volumes_gib: 5000 is more than needs.disk_gib",
		{"count: 8", "count: 9999999"}:                                   "workloads[2].count",
		{"site: vega, max_ms: 30", "site: atlantis, max_ms: 30"}:         `there is no site "atlantis"`,
		{"from: gauge-node", "from: submarine"}:                          `traffic[0]: from "submarine" to "readings-host"`,
		{"apart: host", "apart: planet"}:                                 "constraints[0]: apart is over",
		{"workloads: [ contacts-host ]", "workloads: [ nobody ]"}:        `constraints[0].workloads: there is no workload "nobody"`,
		{"requester: { group", "payment: barter\nrequester: { g"}:        `payment: "barter" is not one of`,
		{"requester: { group", "rules_file: x.yaml\nrequester: { group"}: "rules_file: ",
	} {
		text := strings.Replace(good, change[0], change[1], 1)
		require.NotEqual(t, good, text, change[0])
		_, _, err := Read([]byte(text), open)
		if assert.Error(t, err, change[1]) {
			assert.Contains(t, err.Error(), says)
		}
	}
}

func TestOwnRulesReplaceThoseThatShip(t *testing.T) {
	text := strings.Replace(basin(t), "requester:", `rules:
  version: andamio.rules/1
  rules:
    - { name: foresters-stay, when: 'requester.group == "forecasters"', must: 'site.provider != "alisio"', because: they have an account elsewhere }
requester:`, 1)
	text = strings.Replace(text, "features: [ own-address ]", "features: []", 1)
	_, p, err := Read([]byte(text), open)
	require.NoError(t, err)
	got, err := placement.Solve(*p, placement.Options{})
	require.NoError(t, err)
	for _, c := range got.Choices {
		assert.NotContains(t, c.Site, "alisio")
	}
}

func TestABudgetIsKeptOrSaidToBeTooSmall(t *testing.T) {
	_, p, err := Read([]byte(basin(t)), open)
	require.NoError(t, err)
	p.Weights.Latency = 0.01 // near is worth more than cheap
	free, err := placement.Solve(*p, placement.Options{})
	require.NoError(t, err)
	p.Budget = free.CostPerHour.Units() - 0.001
	held, err := placement.Solve(*p, placement.Options{})
	if err == nil {
		assert.LessOrEqual(t, held.CostPerHour.Units(), p.Budget+1e-6)
		assert.False(t, held.Proven)
	}
	p.Budget = 1
	_, err = placement.Solve(*p, placement.Options{})
	var impossible *placement.Impossible
	require.True(t, errors.As(err, &impossible))
	assert.Contains(t, err.Error(), "the budget of 1.000 cr/h")
	assert.Contains(t, err.Error(), "or more")
}

func FuzzRead(f *testing.F) {
	data, err := open("basin.yaml")
	require.NoError(f, err)
	f.Add(data)
	f.Add([]byte(`{"version":"andamio.problem/1","estate_file":"estate.json","workloads":[{"name":"a","needs":{"cores":1e9}}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		_, p, err := Read(data, open)
		if err != nil || len(p.Workloads) > 40 {
			return
		}
		stops := 0
		_, _ = placement.Solve(*p, placement.Options{Effort: 0.01, Stop: func() bool { stops++; return stops > 200 }})
	})
}
