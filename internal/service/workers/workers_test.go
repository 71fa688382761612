package workers

import (
	"context"
	"errors"
	"fmt"
	"net"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/reach"
	"andamio/internal/store"
)

// shelf is what is known of workers, without a store.
type shelf struct{ leases []store.Lease }

func (s *shelf) TakeLease(context.Context, string, store.Worker, string, time.Time, time.Time, func(store.Lease) bool) (int64, error) {
	return 0, store.ErrTaken
}
func (s *shelf) SayOfLease(context.Context, string, int64, string, time.Time) error { return nil }
func (s *shelf) LeaveLease(context.Context, string, int64) error                    { return nil }
func (s *shelf) Leases(context.Context, string) ([]store.Lease, error)              { return s.leases, nil }

func TestTheNearestThatReachesASiteIsTriedFirst(t *testing.T) {
	all := []Worker{{Name: "cannot", Sites: map[string]Reached{"vega": {Failed: "refused"}}}, {Name: "unknown"}, {Name: "far", Sites: map[string]Reached{"vega": {Seconds: 0.2}}},
		{Name: "near", Sites: map[string]Reached{"vega": {Seconds: 0.01}, "presa": {Failed: "x"}}}}
	nearest(all, "vega")
	var names []string
	for _, w := range all {
		names = append(names, w.Name)
	}
	assert.Equal(t, []string{"near", "far", "unknown", "cannot"}, names)
}

func TestAnAddressIsThatWhichIsConnectedTo(t *testing.T) {
	for address, want := range map[string]string{"https://vega.test": "vega.test:443", "http://vega.test/x": "vega.test:80", "https://10.0.0.2:8443/a": "10.0.0.2:8443", "https://[fd00::2]": "[fd00::2]:443",
		"10.0.0.2:16514": "10.0.0.2:16514", "unix:/run/libvirt": "", "ssh://root@host": "", "": "", "nonsense": ""} {
		assert.Equal(t, want, hostOf(address), address)
	}
}

func TestWhoIsSilentIsNotThere(t *testing.T) {
	said := func(name string, beat time.Time) store.Lease {
		return store.Lease{Name: "worker dam/" + name, Holder: "host/1", Beat: beat, Note: asText(note{Worker: Worker{Pool: "dam", Name: name}})}
	}
	svc := &Service{store: &shelf{[]store.Lease{said("silent", time.Now().Add(-Silent-time.Second)), said("here", time.Now()), {Name: "worker dam/odd", Beat: time.Now(), Note: "{"}}}, memory: &Memory{}}
	all, err := svc.workers(t.Context(), "dam")
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "here", all[0].Name)
	assert.Equal(t, "host/1", all[0].At)
}

func TestWhereNobodyIsThereIsNoWay(t *testing.T) {
	svc := &Service{store: &shelf{}, memory: &Memory{}}
	_, err := svc.Dialer(reach.Through{Pool: "dam"}, "presa")(t.Context(), "tcp", "10.0.0.2:443")
	var no *reach.NoWay
	require.ErrorAs(t, err, &no)
	assert.Equal(t, []any{"presa", "dam", nil}, []any{no.Site, no.Through.String(), no.Err})
	l, err := net.Listen("unix", t.TempDir()+"/s")
	require.NoError(t, err)
	defer l.Close()
	c, err := svc.Dialer(reach.Through{Pool: "dam"}, "presa")(t.Context(), "unix", l.Addr().String())
	require.NoError(t, err, "a socket of this machine is on this machine")
	c.Close()
	assert.True(t, answered(&net.OpError{Err: syscall.ECONNREFUSED}))
	assert.False(t, answered(&net.OpError{Err: syscall.EACCES}), "another may")
	assert.False(t, answered(errors.New("the worker is gone")))
	_, err = svc.Relay(t.Context(), "dam", "one", "10.0.0.2:443")
	assert.Equal(t, fault.NotFound, fault.CodeOf(err))
}

func TestWhatAWorkerSaysOfItselfIsChecked(t *testing.T) {
	for name, j := range map[string]Joining{"a pool": {Pool: "Dam", Name: "one"}, "no pool": {Name: "one"}, "a name": {Pool: "dam", Name: "one two"}, "no name": {Pool: "dam"},
		"much": {Pool: "dam", Name: "one", Labels: map[string]string{"a": string(make([]byte, 5000))}}} {
		assert.Equal(t, fault.Invalid, fault.CodeOf(j.check()), name)
	}
	good := Joining{Pool: "dam", Name: "one.2", Labels: map[string]string{"floor": "2"}}
	require.NoError(t, good.check())
	labels, err := Labels([]string{"floor=2", "site=a=b"})
	require.NoError(t, err)
	assert.Equal(t, "floor=2 site=a=b", LabelText(labels))
	allow, err := Networks([]string{"10.7.1.9/16", "192.0.2.1", "fd00::/8"})
	require.NoError(t, err)
	assert.Equal(t, "[10.7.0.0/16 192.0.2.1/32 fd00::/8]", fmt.Sprint(allow))
	for _, wrong := range []string{"", "10.0", "dam"} {
		_, err := Networks([]string{wrong})
		assert.Error(t, err, wrong)
	}
	w := Worker{Sites: map[string]Reached{"vega": {Seconds: 0.0031}, "presa": {Failed: "refused"}}}
	assert.Equal(t, "presa not reached: refused, vega 3.1 ms", w.Reaches())
	assert.Equal(t, "no site is reached through its pool", (&Worker{}).Reaches())
}
