package engine

import (
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"andamio/internal/core/kinds"
	"andamio/internal/core/plan"
	"andamio/internal/core/plan/op"
	"andamio/internal/core/run"
	"andamio/internal/remote"
	"andamio/internal/site"
)

// machine lets us in, keeps the scripts that it is given, and answers each as it is told to.
type machine struct {
	net.Listener
	key ssh.Signer

	mu      sync.Mutex
	scripts []string
	// answer is what a script prints, and its exit status; -1 breaks the connection off.
	answer func(script string) (said string, status int)
}

func newMachine(t *testing.T) *machine {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	m := &machine{Listener: l, key: signer(t), answer: func(string) (string, int) { return "", 0 }}
	t.Cleanup(func() { l.Close() })
	config := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
	config.AddHostKey(m.key)
	go func() {
		for {
			raw, err := l.Accept()
			if err != nil {
				return
			}
			go m.serve(raw, config)
		}
	}()
	return m
}

func (m *machine) serve(raw net.Conn, config *ssh.ServerConfig) {
	conn, channels, requests, err := ssh.NewServerConn(raw, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for c := range channels {
		ch, asked, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range asked {
				_ = r.Reply(r.Type == "exec", nil)
				if r.Type == "exec" {
					m.run(conn, ch)
				}
			}
		}()
	}
}

func (m *machine) run(conn *ssh.ServerConn, ch ssh.Channel) {
	text, _ := io.ReadAll(ch)
	m.mu.Lock()
	m.scripts = append(m.scripts, string(text))
	said, status := m.answer(string(text))
	m.mu.Unlock()
	if status < 0 {
		conn.Close()
		return
	}
	_, _ = io.WriteString(ch, said)
	_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{uint32(status)}))
	ch.Close()
}

// took is which scripts it was given since it was last asked.
func (m *machine) took() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := m.scripts
	m.scripts = nil
	return out
}

// served is an engine for a plan with a machine, which has volumes, and what is known of how it is reached.
func (m *machine) served(t *testing.T, known map[string]string, steps ...plan.Step) (*Engine, *memory) {
	t.Helper()
	p := &plan.Plan{Version: plan.Version, Name: "n", Levels: 1, Scripts: map[string]string{"set.sh": "set level\n"}, Sites: []plan.Site{{Name: "vega"}}, Resources: []plan.Resource{{ID: "vm-1", Site: "vega", Level: 1, Kind: kinds.Instance, Spec: plan.InstanceSpec{}},
		{ID: "vm-1.if", Site: "vega", Level: 1, Kind: kinds.Interface, Spec: plan.InterfaceSpec{Instance: "vm-1"}}, {ID: "a", Site: "vega", Level: 1, Kind: kinds.Volume, Spec: plan.VolumeSpec{DiskGiB: 1}},
		{ID: "b", Site: "vega", Level: 1, Kind: kinds.Volume, Spec: plan.VolumeSpec{DiskGiB: 1}}}}
	for _, s := range steps {
		s.ID, s.Site, s.Level, s.Seconds, s.Check = s.Op.For(s.Resource, s.Volume), "vega", 1, 0.01, plan.Condition{Kind: plan.CheckSite}
		p.Steps = append(p.Steps, s)
	}
	if len(steps) == 0 {
		p.Steps = []plan.Step{{ID: "vm-1/create", Site: "vega", Level: 1, Seconds: 0.01, Resource: "vm-1", Op: op.Create, Check: plan.Condition{Kind: plan.CheckSite}}}
	}
	e, journal := engineFor(t, p, &scripted{})
	e.Patience = Patience{Least: 2 * time.Second, Times: 1, Most: time.Millisecond, Tries: 2, Wait: time.Millisecond, Shell: time.Second}
	require.NoError(t, e.ready())
	t.Cleanup(e.pool.close)
	_, port, err := net.SplitHostPort(m.Addr().String())
	require.NoError(t, err)
	attributes := map[string]string{site.AttrAddress: "127.0.0.1", site.AttrSSHPort: port, site.AttrSSHUser: "root"}
	for k, v := range known {
		attributes[k] = v
	}
	require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1.if", Attributes: attributes}))
	return e, journal
}

var configure = &plan.Step{ID: "vm-1/configure", Site: "vega", Resource: "vm-1", Op: op.Configure, Script: &plan.Script{Path: "set.sh"}}

// TestAMachineIsHeldToTheKeyItShowedFirst logs in to a machine whose site does not tell its key: what it shows then is kept, and another is not let pass.
func TestAMachineIsHeldToTheKeyItShowedFirst(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	e, journal := m.served(t, nil)
	_, err := e.login(t.Context(), configure, "vm-1")
	require.NoError(t, err)
	learned := journal.events[len(journal.events)-2]
	assert.Equal(t, map[string]string{site.AttrHostKey: publicKey(m.key)}, learned.Attributes)
	assert.Equal(t, "vm-1.if", learned.Resource)
	assert.Equal(t, run.Answered, journal.events[len(journal.events)-1].Kind)
	n := len(journal.events)
	_, err = e.login(t.Context(), configure, "vm-1")
	require.NoError(t, err)
	assert.Len(t, journal.events, n, "it is said once that it answers")
	other, _ := m.served(t, map[string]string{site.AttrHostKey: publicKey(signer(t))})
	_, err = other.login(t.Context(), configure, "vm-1")
	require.Error(t, err, "it is another machine")
	nowhere, _ := m.served(t, map[string]string{site.AttrSSHPort: "1"})
	_, err = nowhere.login(t.Context(), configure, "vm-1")
	require.Error(t, err)
}

// TestVolumesAreMountedOnce has a machine mount what its site only puts into it, once a run, and says what the machine complained of; what could not be done is done again.
func TestVolumesAreMountedOnce(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	e, _ := m.served(t, nil)
	require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1", Attributes: map[string]string{mountOf("a"): "/dev/vdc /srv/levels"}}))
	client, err := e.login(t.Context(), configure, "vm-1")
	require.NoError(t, err)
	m.answer = func(string) (string, int) { return "the disk is not there\n", 1 }
	require.EqualError(t, e.mount(t.Context(), configure, client, "vm-1"), "a could not be mounted on vm-1: it ended with 1: the disk is not there")
	m.answer = func(string) (string, int) { return "", 0 }
	for range 2 {
		require.NoError(t, e.mount(t.Context(), configure, client, "vm-1"))
	}
	took := m.took()
	require.Len(t, took, 2)
	assert.Contains(t, took[1], "device='/dev/vdc'")
	assert.Contains(t, took[1], "place='/srv/levels'")
	assert.True(t, strings.HasSuffix(took[1], mounting))
	require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1", Attributes: map[string]string{mountOf("a"): "/dev/vdd /srv/levels"}}))
	require.NoError(t, e.mount(t.Context(), configure, client, "vm-1"))
	assert.Len(t, m.took(), 1, "it is another disk there now")
	require.NoError(t, e.mount(t.Context(), configure, client, "vm-2"), "of which nothing is known")
	for _, more := range []string{"b", "c", "d", "e"} { // whichever of those that are done is looked at first
		require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1", Attributes: map[string]string{mountOf(more): "/dev/vd" + more + " /srv/" + more}}))
		require.NoError(t, e.mount(t.Context(), configure, client, "vm-1"))
		assert.Len(t, m.took(), 1, more)
	}
	m.answer = func(string) (string, int) { return "", -1 }
	require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1", Attributes: map[string]string{mountOf("f"): "/dev/vde /f"}}))
	err = e.mount(t.Context(), configure, client, "vm-1")
	assert.Equal(t, site.Transient, site.ClassOf(err), "%v", err)
}

// TestAVolumeIsLetGoOfBeforeItIsTaken has a machine let go of a file system before its volume is detached, or it is unplugged: from one that goes itself it is taken all the same, one that is in use elsewhere says by whom, and one
// that hangs up loses it as it is.
func TestAVolumeIsLetGoOfBeforeItIsTaken(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	detach := plan.Step{Resource: "vm-1", Op: op.Detach, Volume: "a"}
	unplug := plan.Step{Resource: "vm-1.if", Op: op.Unplug}
	remove := plan.Step{Resource: "vm-1", Op: op.Remove}
	at := map[string]string{mountOf("a"): "/dev/vdc /srv/levels"}
	for name, c := range map[string]struct {
		steps  []plan.Step
		by     int
		said   string
		status int
		goes   bool
		why    string
		done   bool
	}{
		"by detaching":       {[]plan.Step{detach}, 0, "", 0, false, "", true},
		"by unplugging":      {[]plan.Step{detach, unplug}, 1, "", 0, false, "", true},
		"the machine goes":   {[]plan.Step{detach, remove}, 0, "", 0, true, "", true},
		"in use":             {[]plan.Step{detach}, 0, "in use by levels --write\n", 1, false, "a could not be unmounted on vm-1: it ended with 1: in use by levels --write", false},
		"it hangs up":        {[]plan.Step{detach}, 0, "", -1, false, "", true},
		"by something else":  {[]plan.Step{detach, remove}, 1, "", 0, false, "", false},
		"many are kept":      {[]plan.Step{detach}, 0, "", 0, false, "", true},
		"it keeps the other": {[]plan.Step{{Resource: "vm-1", Op: op.Detach, Volume: "b"}}, 0, "", 0, false, "", false},
	} {
		t.Run(name, func(t *testing.T) {
			e, _ := m.served(t, nil, c.steps...)
			require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1", Attributes: at}))
			if name == "many are kept" {
				for i := range 12 {
					require.NoError(t, e.record(run.Event{Kind: run.Learned, Resource: "vm-1", Attributes: map[string]string{mountOf(fmt.Sprint("kept-", i)): fmt.Sprintf("/dev/vd%d /kept/%d", i, i)}}))
				}
			}
			m.answer = func(string) (string, int) { return c.said, c.status }
			s := &e.Plan.Steps[c.by]
			err := e.part(t.Context(), s, e.Plan.Resource(s.Resource))
			took := m.took()
			assert.Equal(t, c.done, e.marked("away vm-1 a /dev/vdc /srv/levels"))
			if c.why != "" {
				require.EqualError(t, err, c.why)
				return
			}
			require.NoError(t, err)
			if !c.done {
				assert.Empty(t, took)
				return
			}
			require.Len(t, took, 1)
			assert.Equal(t, c.goes, strings.Contains(took[0], "goes='yes'"))
			assert.True(t, strings.HasSuffix(took[0], unmounting))
			require.NoError(t, e.part(t.Context(), s, e.Plan.Resource(s.Resource)))
			assert.Empty(t, m.took(), "once")
		})
	}
}

// TestAScriptEndsAsItsMachineSays runs a script with its inputs before it, logs what it prints, and fails with the last of it where it does.
func TestAScriptEndsAsItsMachineSays(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	set := func(level string) plan.Step {
		return plan.Step{Resource: "vm-1", Op: op.Configure, Script: &plan.Script{Path: "set.sh", Inputs: []plan.Input{{Name: "LEVEL", Value: plan.Expr{Literal: level}}}}}
	}
	said := func(e *memory) (out []string) {
		for _, x := range e.events {
			if x.Kind == run.Logged {
				out = append(out, x.Text)
			}
		}
		return out
	}
	for name, c := range map[string]struct {
		said   string
		status int
		why    string
		class  site.Class
		log    []string
	}{
		"done":        {"rising\nstill\n", 0, "", "", []string{"rising", "still"}},
		"it fails":    {"rising\nno room\n", 3, "set.sh exited with 3: no room", site.Refused, []string{"rising", "no room"}},
		"it hangs up": {"", -1, "the connection broke off", site.Transient, nil},
	} {
		t.Run(name, func(t *testing.T) {
			e, journal := m.served(t, nil, set("it's 2.10"))
			m.answer = func(text string) (string, int) {
				if !strings.Contains(text, "set level") {
					return "", 0
				}
				return c.said, c.status
			}
			err := e.script(t.Context(), &e.Plan.Steps[0], e.Plan.Resource("vm-1"))
			last := m.took()
			assert.Contains(t, last[len(last)-1], remote.Export("LEVEL", "it's 2.10"))
			if c.why == "" {
				require.NoError(t, err)
			} else {
				require.ErrorContains(t, err, c.why)
				assert.Equal(t, c.class, site.ClassOf(err))
			}
			for _, line := range c.log {
				assert.Contains(t, said(journal), line)
			}
		})
	}
	e, _ := m.served(t, nil, set("2\x001"))
	bad := &e.Plan.Steps[0]
	assert.ErrorContains(t, e.script(t.Context(), bad, e.Plan.Resource("vm-1")), "the input LEVEL has a NUL in it")
	bad.Script = nil
	assert.ErrorContains(t, e.script(t.Context(), bad, e.Plan.Resource("vm-1")), "is to run a script, and has none")
	assert.Empty(t, m.took(), "nothing of that is run")
}
