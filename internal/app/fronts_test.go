package app

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/sandbox"
	"andamio/internal/service/fronts"
	"andamio/internal/service/templates"
	"andamio/internal/service/workspace"
)

const mapInFront = `version: andamio.fronts/1
zone: near.ribera.test
servers: [ns1.ribera.test, ns2.ribera.test]
ttl: 1s
fronts:
- { name: map, endpoint: river-map.app_endpoint, full: 90%, answers: 8, plain: map-anywhere }
`

// lookedUp are the addresses of a name, by who answers at an address; a word where there are none.
func lookedUp(t *testing.T, at, name string) string {
	t.Helper()
	m := new(dns.Msg)
	m.SetQuestion(name, dns.TypeA)
	c := &dns.Client{Timeout: 3 * time.Second}
	got, _, err := c.Exchange(m, at)
	if err != nil {
		return err.Error()
	}
	var out []string
	for _, rr := range got.Answer {
		if a, is := rr.(*dns.A); is {
			out = append(out, a.A.String())
		}
	}
	slices.Sort(out)
	if out == nil {
		return dns.RcodeToString[got.Rcode]
	}
	return strings.Join(out, " ")
}

// answered has something be answered for until the test ends, or it is stopped, and returns where.
func answeredFor(t *testing.T, answer func(ctx context.Context, told func([]string)) error) (at string, stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	where, ended := make(chan string, 1), make(chan error, 1)
	go func() { ended <- answer(ctx, func(all []string) { where <- all[0] }) }()
	stopped := false
	stop = func() {
		if !stopped {
			stopped = true
			cancel()
			require.NoError(t, <-ended)
		}
	}
	t.Cleanup(stop)
	select {
	case at = <-where:
	case err := <-ended:
		t.Fatal(err)
	}
	return at, stop
}

// TestAFrontFollowsWhatStands has a name in front of the map, loses a machine, grows, and stops the service, and looks who is answered with; and that a second one answers the same, and goes on from what was known
// last when all else is gone.
func TestAFrontFollowsWhatStands(t *testing.T) {
	t.Parallel()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	a, box := connectedTo(t, sandbox.Config{Estate: e, Pace: pace, Seed: 1, Zone: "ribera.test"})
	id := ofScenario(t, a)
	require.Equal(t, fault.NotFound, fault.CodeOf(a.AnswerFronts(ctx, []string{"127.0.0.1:0"}, true, func([]string) {})), "there are none")
	_, err = a.SetFronts(ctx, []byte("version: andamio.fronts/1"))
	require.Equal(t, fault.Invalid, fault.CodeOf(err))
	_, err = a.SetFronts(ctx, []byte(mapInFront))
	require.NoError(t, err)
	require.NoError(t, a.MeasureAll(ctx, time.Now()))
	at, stop := answeredFor(t, func(ctx context.Context, told func([]string)) error {
		return a.AnswerFronts(ctx, []string{"127.0.0.1:0"}, true, told)
	})
	const name = "map.near.ribera.test."
	address := func(software string) string {
		states, err := a.FrontStates(ctx)
		require.NoError(t, err)
		for _, m := range states[0].Members {
			if m.Name == software {
				return m.Address.String()
			}
		}
		return "nobody"
	}
	eventually := func(want func() string, at, name string) {
		t.Helper()
		require.Eventually(t, func() bool { return lookedUp(t, at, name) == want() }, 20*time.Second, 50*time.Millisecond, "%s is %s, and to be %s", name, lookedUp(t, at, name), want())
	}
	of := func(all ...string) func() string {
		return func() string {
			var out []string
			for _, x := range all {
				out = append(out, address(x))
			}
			slices.Sort(out)
			return strings.Join(out, " ")
		}
	}
	eventually(of("river-map-1", "river-map-2"), at, name)
	eventually(of("river-map-1", "river-map-2"), box.Names.Address, "map-anywhere.ribera.test.")

	r := &reacting{&watching{a, t, time.Now()}, id}
	r.gone("map-host-1")
	eventually(of("river-map-2"), at, name)
	eventually(of("river-map-2"), box.Names.Address, "map-anywhere.ribera.test.")

	o, err := a.Scaling(ctx, id, "dispatch-host", 1)
	require.NoError(t, err)
	carriedOut(t, a, o)
	file := filepath.Join(a.Opened().Dir, workspace.FileLastFronts)
	_, err = os.Stat(file)
	require.NoError(t, err)
	second, _ := answeredFor(t, func(ctx context.Context, told func([]string)) error {
		return a.AnswerFronts(ctx, []string{"127.0.0.1:0"}, false, told)
	})
	alone, _ := answeredFor(t, func(ctx context.Context, told func([]string)) error {
		return fronts.AnswerFrom(ctx, file, []string{"127.0.0.1:0"}, told)
	})
	assert.Equal(t, of("river-map-2")(), lookedUp(t, alone, name), "by what was known last, from the first moment on")
	eventually(of("river-map-2"), second, name)
	stop()
	require.NoError(t, os.Remove(file))
	assert.Equal(t, address("river-map-2"), "nobody", "nothing is known any more here")
	only := lookedUp(t, alone, name)
	box.Misbehave(sandbox.Rule{Fault: sandbox.Unavailable, Site: "alisio-norte"}, sandbox.Rule{Fault: sandbox.Unavailable, Site: "alisio-sur"})
	eventually(func() string { return only }, alone, name)
	eventually(func() string { return only }, second, name)
	require.Error(t, fronts.AnswerFrom(ctx, file, []string{"127.0.0.1:0"}, func([]string) {}), "of what was never known nothing can be told")
	require.NoError(t, os.WriteFile(file, []byte("{"), 0o600))
	require.ErrorContains(t, fronts.AnswerFrom(ctx, file, []string{"127.0.0.1:0"}, func([]string) {}), "is no file of what was known of fronts last")
}

// TestWhoServesAnswersForTheFronts holds that the process that serves the workspace answers, by the file as it is.
func TestWhoServesAnswersForTheFronts(t *testing.T) {
	t.Parallel()
	e, err := templates.DemoEstate()
	require.NoError(t, err)
	a, box := connectedTo(t, sandbox.Config{Estate: e, Pace: pace, Seed: 1, Zone: "ribera.test"})
	ofScenario(t, a)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	s, err := a.Serve(ctx, Listening{Address: "127.0.0.1:0"}, nil)
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	both := regexp.MustCompile(`^[\d.]+ [\d.]+$`) // two addresses, and not the words of an error
	at := free(t)
	_, err = a.SetFronts(ctx, []byte(strings.Replace(mapInFront, "ttl: 1s", "listen: ['"+at+"']", 1)))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return both.MatchString(lookedUp(t, at, "map.near.ribera.test.")) }, 30*time.Second, 50*time.Millisecond, "%s", lookedUp(t, at, "map.near.ribera.test."))
	other := free(t)
	_, err = a.SetFronts(ctx, []byte(strings.Replace(mapInFront, "ttl: 1s", "listen: ['"+other+"']", 1)))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return both.MatchString(lookedUp(t, other, "map.near.ribera.test.")) }, 30*time.Second, 50*time.Millisecond)
	assert.Contains(t, lookedUp(t, at, "map.near.ribera.test."), "refused")

	plain := func(name string) string { return lookedUp(t, box.Names.Address, name+".ribera.test.") }
	require.Eventually(t, func() bool { return both.MatchString(plain("map-anywhere")) }, 30*time.Second, 50*time.Millisecond, "%s", plain("map-anywhere"))
	_, err = a.SetFronts(ctx, []byte(strings.NewReplacer("ttl: 1s", "listen: ['"+other+"']", "map-anywhere", "map-everywhere").Replace(mapInFront)))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return both.MatchString(plain("map-everywhere")) }, 30*time.Second, 50*time.Millisecond, "%s", plain("map-everywhere"))
	require.Eventually(t, func() bool { return plain("map-anywhere") == "NXDOMAIN" }, 30*time.Second, 50*time.Millisecond, "a name that no front has any more is withdrawn: %s", plain("map-anywhere"))
	require.NoError(t, a.workspace.Files().Remove(workspace.FileFronts))
	require.Eventually(t, func() bool { return plain("map-everywhere") == "NXDOMAIN" }, 30*time.Second, 50*time.Millisecond, "also when there are none any more: %s", plain("map-everywhere"))
	cancel()
	require.NoError(t, <-ended)
}

// free is an address and port of loopback that nothing listens at, and nobody else is given: others take ports of 127.0.0.1.
func free(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.77:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}
