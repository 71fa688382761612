package cli

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/service/accounts"
)

// TestTheAccountFromTheCommandLine raises the scenario, and asks what it costs, in a unit and in a currency, and what would have cost less.
func TestTheAccountFromTheCommandLine(t *testing.T) {
	t.Parallel()
	ws := standIns(t, "0.01")
	run := commands(t, ws)
	assert.Contains(t, run(0, "account"), "nothing stood that you may see")
	run(0, "run", planFile(t, ws))
	assert.Regexp(t, `(?s)in cr\n +APPLICATION +COST +SHARE +HOURS +OFF +PER HOUR NOW\s+flood-watch +0\.\d\d +\d+ % .*all +0\.\d\d`, run(0, "account"))
	assert.Regexp(t, `vega +0\.\d\d`, run(0, "account", "--by", "site", "--every", "day", "--only", "kind=instance"))
	var out accounts.Account
	require.NoError(t, json.Unmarshal([]byte(run(0, "account", "--by", "service", "--json")), &out))
	assert.Greater(t, len(out.Lines), 3)
	saved := run(0, "account", "savings")
	if at := time.Now(); at.Weekday() == time.Saturday || at.Weekday() == time.Sunday || at.Hour() < 7 || at.Hour() >= 20 {
		assert.Regexp(t, `INSTANCE.*STOPPED AT NIGHT`, saved)
	} else {
		assert.Contains(t, saved, "nothing would have saved anything", "it is day, and it has stood for seconds")
	}

	file := filepath.Join(t.TempDir(), "focus.csv")
	assert.Contains(t, run(2, "account", "export", file), "andamio account rates set FILE")
	assert.NoFileExists(t, file)
	rates := "../../examples/flood-watch/rates.yaml"
	assert.Contains(t, run(0, "account", "rates"), "there are none")
	assert.Contains(t, run(0, "account", "rates", "check", rates), "2 rates: nothing is wrong")
	assert.Contains(t, run(0, "account", "rates", "set", rates), "kept: 2 rates; accounts are in EUR")
	assert.Contains(t, run(0, "account", "rates"), "from 2026-07-01 one cr is 0.95 EUR")
	assert.Contains(t, run(0, "account", "export", file), "written: "+file)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	rows, err := csv.NewReader(strings.NewReader(string(data))).ReadAll()
	require.NoError(t, err)
	assert.Greater(t, len(rows), 10)
	assert.Contains(t, run(0, "account", "--by", "team"), "(none)")
	assert.Contains(t, run(0, "log"), "set what a unit is worth in EUR")

	for says, args := range map[string][]string{
		`an account is not by "colour"`: {"--by", "colour"},
		`"soon" is no day`:              {"--from", "soon"},
		`"May" is no month`:             {"--month", "May"},
		"it is written as team=gauging": {"--only", "team"},
		`there is no "weak"`:            {"--every", "weak"},
		"is no pattern":                 {"--only", "team=["},
		"it has to begin before":        {"--month", "2999-01"},
		`more than 2000 hours`:          {"--from", "2020-01-01", "--every", "hour"},
	} {
		assert.Contains(t, run(2, append([]string{"account"}, args...)...), says)
	}
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	require.NoError(t, os.WriteFile(bad, []byte("version: andamio.rates/1\nunit: cr\ncurrency: euros\nrates: [{from: 2026-01-01, value: 1}]"), 0o600))
	assert.Contains(t, run(2, "account", "rates", "set", bad), `bad.yaml: currency: "euros" is no code of ISO 4217`)
}
