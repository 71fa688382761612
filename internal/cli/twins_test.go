package cli

import (
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/api"
	"andamio/internal/app"
)

// Why a command has no twin among the operations of the interface for programs.
const (
	// ofTheProgram is about the program or files at hand, and asks no workspace.
	ofTheProgram = "of the program"
	// atTheKeyboard is for whoever keeps the machine on which the workspace is.
	atTheKeyboard = "for whoever keeps the machine"
	// listedElsewhere is a list or file that another operation answers with.
	listedElsewhere = "another operation answers with it"
)

// withoutTwins are the commands that have none.
var withoutTwins = map[string][]string{
	ofTheProgram: {"", "demo", "editor", "explain", "types", "pack", "unpack", "sandbox", "sandbox drift", "sandbox load", "place", "mapping", "calendar check", "estate import", "estate show", "front check", "hook check",
		"level check", "quota check", "reaction check", "team check", "offer check", "threshold shipped", "export", "package"},
	atTheKeyboard: {"serve", "work", "backup", "restore", "workspace copy", "workspace join", "credentials", "credentials key", "credentials lock", "names", "notices", "measure forward", "front answer"},
	listedElsewhere: {"account rates check", "account rates set", "calendar", "calendar set", "decide rules set", "site", "records", "team", "promises report", "measure draw", "measure overview", "measure overview drop",
		"measure overview keep", "level settle"},
}

// TestEveryCommandHasATwin holds the commands and the operations of the interface for programs against each other.
func TestEveryCommandHasATwin(t *testing.T) {
	a, err := app.Open(t.Context(), t.TempDir(), app.Idle())
	require.NoError(t, err)
	defer a.Close()
	twins := map[string]bool{}
	for _, x := range api.New(a, api.Usual).Twins() {
		for _, c := range x.Commands {
			twins[c] = true
		}
	}
	known := map[string]bool{}
	var walk func(c *cobra.Command, name string)
	walk = func(c *cobra.Command, name string) {
		for _, sub := range c.Commands() {
			walk(sub, strings.TrimSpace(name+" "+sub.Name()))
		}
		if !c.Runnable() {
			return
		}
		known[name] = true
		without := false
		for _, list := range withoutTwins {
			without = without || slices.Contains(list, name)
		}
		assert.True(t, twins[name] || without, "%q has no operation that does the same: add one, or say here why there is none", name)
		assert.False(t, twins[name] && without, "%q has a twin", name)
	}
	walk(newRoot(&shared{}), "")
	for name := range twins {
		assert.True(t, known[name], "an operation says that it does what %q does, and there is no such command", name)
	}
	for why, list := range withoutTwins {
		for _, name := range list {
			assert.True(t, known[name], "%q, %s: there is no such command", name, why)
		}
	}
}
