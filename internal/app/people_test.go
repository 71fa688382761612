package app

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/fault"
	"andamio/internal/core/guard"
	"andamio/internal/service/acting"
	"andamio/internal/service/deployments"
	"andamio/internal/service/reconcile"
	"andamio/internal/service/shells"
	"andamio/internal/service/workspace"
)

// teams is a directory in which whoever runs the tests is ana, the engineer.
func teams() string {
	return `
version: andamio.teams/1
people:
  ana: { user: "` + acting.Whoami() + `" }
  eva: {}
  ibo: {}
teams:
  gauging: { members: [ eva ] }
  map: { members: [ ibo ] }
grants:
- { to: ana, role: engineer }
- { to: "team:gauging", role: operator, teams: [ own ] }
- { to: ibo, role: operator, sites: [ vega, presa ] }
`
}

// TestWhoMayIsAskedByWhatItIsDoneTo has people of two teams operate a deployment that is given to one of them, and reads what is noted.
func TestWhoMayIsAskedByWhatItIsDoneTo(t *testing.T) {
	t.Parallel()
	a, _ := aWorkspace(t, 0.003)
	_, err := a.SetDirectory(ctx, []byte(teams()))
	require.NoError(t, err)
	a = another(t, a)
	assert.Equal(t, Actor{Name: "ana", Way: ByCommand}, a.Actor(), "the user of the operating system is known")
	id, err := a.NewRun(ctx, deployments.Order{Plan: draft(t, a, nil).Plan})
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, id))
	r, err := a.Run(ctx, id)
	require.NoError(t, err)
	require.NoError(t, a.Give(ctx, r.Deployment, guard.Owner{Team: "gauging", Stage: "trial"}))
	d, err := a.Deployment(ctx, r.Deployment)
	require.NoError(t, err)
	assert.Equal(t, guard.Owner{Team: "gauging", Stage: "trial"}, d.Owner)
	off, err := a.Powering(ctx, r.Deployment, "", false)
	require.NoError(t, err)
	eva, ibo, mia := a.As(Actor{Name: "eva", Way: ByScreen}), a.As(Actor{Name: "ibo", Way: ByScreen}), a.As(Actor{Name: "mia", Way: ByScreen})
	before, err := a.LastOfTrail(ctx, 1)
	require.NoError(t, err)
	for who, c := range map[*App]string{ibo: "not at vega, presa", mia: "not known who that is"} {
		_, err = who.NewRun(ctx, off)
		require.ErrorContains(t, err, c)
		assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
		assert.Equal(t, fault.NotAllowed, fault.CodeOf(who.Cancel(ctx, id)), "by its run")
		_, err = who.Propose(ctx, off, 1e12)
		assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
		assert.Equal(t, fault.NotAllowed, fault.CodeOf(who.SetSecrets(ctx, map[string]string{"a": "b"})))
		_, err = who.Command(ctx, hostBeyond(t, d), "true", nil, nil, nil)
		assert.Equal(t, fault.NotAllowed, fault.CodeOf(err))
	}
	_, err = ibo.Survey(ctx, reconcile.SurveyRequest{Site: "tramonta"})
	require.ErrorContains(t, err, "this is at tramonta, not at vega, presa")
	after, err := a.LastOfTrail(ctx, 1)
	require.NoError(t, err)
	assert.Equal(t, before, after, "what was refused is not done, and noted nowhere")
	p, err := eva.Propose(ctx, off, 1e12)
	require.NoError(t, err)
	assert.Equal(t, fault.NotAllowed, fault.CodeOf(ibo.Withdraw(ctx, p.ID)), "by its proposal")
	_, err = eva.Confirm(ctx, p.ID)
	require.ErrorContains(t, err, "that takes the right to approve")
	id, err = eva.NewRun(ctx, off)
	require.NoError(t, err)
	require.NoError(t, a.Work(ctx, id))
	answer, err := a.May(ctx, "eva", guard.Operate, guard.Thing{Run: id})
	require.NoError(t, err)
	assert.Equal(t, guard.Answer{Yes: true, Why: "given to the team gauging, as operator: things of own"}, answer)
}

// TestTheDirectoryIsSetByWhoCanSetItAgain locks nobody out, and nobody in.
func TestTheDirectoryIsSetByWhoCanSetItAgain(t *testing.T) {
	t.Parallel()
	a, err := Open(ctx, t.TempDir(), Idle())
	require.NoError(t, err)
	defer a.Close()
	answer, err := a.May(ctx, "anybody", guard.Keep, guard.Thing{})
	require.NoError(t, err)
	assert.True(t, answer.Yes, "who can open the workspace is its engineer")
	require.ErrorContains(t, a.Give(ctx, 1, guard.Owner{}), "not found")
	_, err = a.SetDirectory(ctx, []byte(strings.Replace(teams(), `"`+acting.Whoami()+`"`, "another", 1)))
	require.ErrorContains(t, err, "you, nobody that it knows, could not set it again")
	_, err = a.SetDirectory(ctx, []byte("version: x"))
	require.Equal(t, fault.Invalid, fault.CodeOf(err))
	_, err = a.SetDirectory(ctx, []byte(teams()))
	require.NoError(t, err)
	a = another(t, a)
	_, err = a.SetDirectory(ctx, []byte(strings.Replace(teams(), `"`+acting.Whoami()+`"`, "another", 1)))
	require.ErrorContains(t, err, "you, nobody that it knows", "though ana still has the role, nobody at this keyboard would be ana")
	_, err = a.As(Actor{Name: "eva", Way: ByScreen}).SetDirectory(ctx, []byte(teams()))
	require.ErrorContains(t, err, "you, eva, could not set it again")
	require.NoError(t, a.workspace.Files().Write(workspace.FileTeams, []byte("people: [")))
	_, err = a.Directory()
	require.ErrorContains(t, err, workspace.FileTeams)
	require.ErrorContains(t, a.SetSecrets(ctx, map[string]string{"a": "b"}), workspace.FileTeams, "while it cannot be read nobody does anything")
	require.NoError(t, a.workspace.Files().Remove(workspace.FileTeams))
	require.NoError(t, a.SetSecrets(ctx, map[string]string{"a": "b"}))
}

// hostBeyond is an instance that stands at another site than vega and presa.
func hostBeyond(t *testing.T, d *deployments.Deployment) shells.Host {
	t.Helper()
	for _, h := range shells.HostsOf(d) {
		if h.Site != "vega" && h.Site != "presa" {
			return h
		}
	}
	t.Fatal("none stands elsewhere")
	return shells.Host{}
}
