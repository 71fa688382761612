package app

import (
	"context"
	"io"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/runs"
)

// TestWhoMayNotReadIsShownNothing calls all that reads or works out what is not the caller's own, for somebody who may only ask for
// what is offered, for an approver, and for nobody.
func TestWhoMayNotReadIsShownNothing(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	_, err := a.SetDirectory(ctx, []byte(`
version: andamio.teams/1
people: { ana: { user: "`+acting.Whoami()+`" }, eva: {}, lia: {} }
grants: [ { to: ana, role: engineer }, { to: eva, role: requester }, { to: lia, role: approver } ]
`))
	require.NoError(t, err)
	a = another(t, a)
	called := 0
	for _, who := range []string{"eva", "lia", "mia", ""} {
		v := reflect.ValueOf(a.As(Actor{Name: who, Way: ByScreen}))
		for i := range v.NumMethod() {
			name := v.Type().Method(i).Name
			if what := methods[name]; what != reads && what != worksOut {
				continue
			}
			called++
			err := errorOf(t, v.Method(i))
			assert.Equal(t, fault.NotAllowed, fault.CodeOf(err), "%s for %q: %v", name, who, err)
		}
	}
	assert.Greater(t, called, 4*60)
	v := reflect.ValueOf(a.As(Actor{Name: "ana", Way: ByScreen}))
	for _, name := range []string{"Runs", "Sites", "Reservations", "Rulings", "Deployments", "OpenProposals", "Pairs"} { // by whoever may read
		assert.NoError(t, errorOf(t, v.MethodByName(name)), name)
	}
}

// errorOf calls a method with nothing in particular and returns its error; of one that returns a channel, what comes from that.
func errorOf(t *testing.T, method reflect.Value) error {
	t.Helper()
	var in []reflect.Value
	for i := range method.Type().NumIn() {
		switch p := method.Type().In(i); {
		case method.Type().IsVariadic() && i == method.Type().NumIn()-1:
		case p == reflect.TypeFor[context.Context]():
			in = append(in, reflect.ValueOf(ctx))
		case p == reflect.TypeFor[io.Writer]():
			in = append(in, reflect.ValueOf(io.Discard))
		case p.Kind() == reflect.Pointer:
			in = append(in, reflect.New(p.Elem()))
		default:
			in = append(in, reflect.Zero(p))
		}
	}
	out := method.Call(in)
	last := out[len(out)-1].Interface()
	if said, is := last.(<-chan runs.Batch); is {
		select {
		case b := <-said:
			return b.Err
		case <-time.After(time.Minute):
			require.Fail(t, "nothing is said")
		}
	}
	err, _ := last.(error)
	return err
}

// TestWhoMayReadSomeSeesThat raises two deployments of two teams at all sites, and looks what somebody sees who may read what is of one team, and
// somebody who may read what is at one site.
func TestWhoMayReadSomeSeesThat(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	_, err := a.SetDirectory(ctx, []byte(teams()))
	require.NoError(t, err)
	a = another(t, a)
	var raised []int64
	for _, team := range []string{"gauging", "map"} {
		p := draft(t, a, nil).Plan
		p.Name = team
		id, err := a.NewRun(ctx, deployments.Order{Plan: p})
		require.NoError(t, err)
		r, err := a.Run(ctx, id)
		require.NoError(t, err)
		require.NoError(t, a.Give(ctx, r.Deployment, guard.Owner{Team: team}))
		raised = append(raised, id)
		if team == "gauging" {
			require.NoError(t, a.Work(ctx, id))
		}
	}
	eva, ibo := a.As(Actor{Name: "eva", Way: ByScreen}), a.As(Actor{Name: "ibo", Way: ByScreen})
	all, err := eva.Runs(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, raised[0], all[0].ID)
	some, err := eva.Deployments(ctx)
	require.NoError(t, err)
	require.Len(t, some, 1)
	assert.Equal(t, "gauging", some[0].Name)
	_, err = eva.Replay(ctx, raised[0])
	require.NoError(t, err)
	_, err = eva.Replay(ctx, raised[1])
	require.ErrorContains(t, err, "this is another team's")
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
	others, err := a.Run(ctx, raised[1])
	require.NoError(t, err)
	forged := all[0]
	forged.Plan = others.Plan
	p, err := eva.PlanOf(ctx, forged)
	require.NoError(t, err)
	assert.Equal(t, "gauging", p.Name, "what a caller says of a run counts for nothing")
	mine, err := eva.Deployment(ctx, all[0].Deployment)
	require.NoError(t, err)
	mine.Runs = append(mine.Runs, others)
	_, err = eva.Picture(ctx, mine)
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err), "nor what it says of a deployment")
	_, err = eva.Retiring(ctx, all[0].Deployment)
	require.NoError(t, err, "what they may see is worked out with all that it takes")
	sites, err := eva.Sites()
	require.NoError(t, err)
	assert.Empty(t, sites, "no site is a team's")
	e, err := ibo.Estate(ctx)
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"vega", "presa"}, namesOf(e.Sites, func(i int) string { return e.Sites[i].Name }))
	none, err := ibo.Deployments(ctx)
	require.NoError(t, err)
	assert.Empty(t, none, "they stand at other sites too")
	connections, err := ibo.Connections()
	require.NoError(t, err)
	assert.Len(t, connections, 2)
	_, err = ibo.Connection("tramonta")
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
	_, err = ibo.Reconcile(ctx)
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(err), "the inventory is the whole workspace's")
}

func namesOf[T any](of []T, name func(int) string) []string {
	var out []string
	for i := range of {
		out = append(out, name(i))
	}
	slices.Sort(out)
	return out
}
