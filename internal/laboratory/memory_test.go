package laboratory_test

import (
	"bufio"
	"os/exec"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/testprogram"
)

// TestWhatIsInMemoryIsKept keeps what is in the memory of a real machine, has it go on from there, goes back, and does so once more with a worker that is killed in
// between: what is in memory and what is on disks is always of one moment, and the system never starts anew.
func TestWhatIsInMemoryIsKept(t *testing.T) {
	t.Parallel()
	b := newBench(t, func(*bench) {})
	b.do("plan", "testdata/memory", "-o", b.ws+"/plan.json")
	b.do("run", b.ws+"/plan.json")
	in := func(command string) string { return strings.TrimSpace(b.do("shell", "host-1", "--", command)) }
	const says = "cat /run/mark /srv/mark /proc/sys/kernel/random/boot_id; pidof httpd"
	write := func(text string) string { // /run is in memory, /srv on a volume
		in("echo " + text + " >/run/mark; echo " + text + " >/srv/mark; sync")
		return in(says)
	}
	before := write("before")
	b.do("snapshot", "take", "levels", "--memory", "--name", "kept", "--confirm", "levels")
	assert.Contains(t, b.do("snapshot", "levels"), "at one moment, with memory")
	after := write("after")
	require.NotEqual(t, before, after)

	b.do("snapshot", "restore", "levels", "kept", "--confirm", "levels")
	assert.Equal(t, before, in(says), "it goes on from where it was")
	b.do("rollback", "--confirm", "levels")
	assert.Equal(t, after, in(says), "and back")

	const next = 5 // after a build, a snapshot, a restore and going back
	for i, when := range []string{"host-1/halt", "host-1/restore", "host-1/recall"} {
		cmd := exec.CommandContext(t.Context(), binary, "--workspace", b.ws, "snapshot", "restore", "levels", "kept", "--confirm", "levels", "--discard")
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		for lines := bufio.NewScanner(out); lines.Scan(); {
			if strings.Contains(lines.Text(), "under way  "+when) {
				break
			}
		}
		require.NoError(t, testprogram.Process(t, "work", strconv.Itoa(next+i), "--workspace", b.ws).Kill())
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		require.Eventually(t, func() bool { return b.tries("resume") }, waiting, second/10, "once it is noticed that nobody works on it")
		assert.Equal(t, before, in(says), "killed at %s", when)
		write("other")
	}
	b.do("retire", "levels", "--confirm", "levels")
	assert.Empty(t, b.virsh("list", "--all", "--name"))
	assert.Empty(t, b.virsh("vol-list", "default"))
}
