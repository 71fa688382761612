package guard

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAProviderOfIdentitiesIsWrittenDown(t *testing.T) {
	write := func(identity, ana, eva string) []byte {
		return fmt.Appendf(nil, "version: andamio.teams/1\n%s\npeople: { ana: { user: ana%s }, eva: { user: eva%s } }\ngrants: [ { to: ana, role: engineer } ]\n", identity, ana, eva)
	}
	d, err := ReadDirectory(write("identity: { issuer: 'https://login.ribera.test/basin', client: andamio, claim: email }", ", identity: ana@ribera.test", ""))
	require.NoError(t, err)
	assert.Equal(t, "ana", d.ByIdentity("ana@ribera.test"))
	assert.Empty(t, d.ByIdentity("eva@ribera.test"))
	assert.Empty(t, d.ByIdentity(""), "who is called nothing is nobody")
	assert.Equal(t, ByEmail, d.Identity.By())
	assert.Equal(t, BySubject, Identity{}.By())
	for _, at := range []string{"https://login.ribera.test", "https://login.ribera.test:8443/a/b", "http://127.0.0.1:4000", "http://localhost", "http://[::1]:80"} {
		_, err := ReadDirectory(write("identity: { issuer: '"+at+"', client: andamio }", "", ""))
		assert.NoError(t, err, at)
	}
	for _, c := range []struct{ identity, ana, eva, want string }{
		{"", ", identity: x", "", "people.ana.identity: no provider says who that is"},
		{"identity: { issuer: 'https://a.test', client: andamio }", ", identity: x", ", identity: x", "x is ana already"},
		{"identity: { issuer: 'https://a.test', client: '' }", "", "", "identity.client: say what we are called"},
		{"identity: { issuer: 'https://a.test', client: a, claim: phone }", "", "", `"phone" is no claim`},
		{"identity: { issuer: 'http://login.ribera.test', client: a }", "", "", "over https alone"},
		{"identity: { issuer: 'login.ribera.test', client: a }", "", "", "is no address of a provider"},
		{"identity: { issuer: 'https://u:p@login.test', client: a }", "", "", "is no address of a provider"},
		{"identity: { issuer: 'https://login.test/?a=b', client: a }", "", "", "is no address of a provider"},
		{"identity: { issuer: 'https://login.test', client: a, secret: b }", "", "", "secret"},
	} {
		_, err := ReadDirectory(write(c.identity, c.ana, c.eva))
		assert.ErrorContains(t, err, c.want)
	}
}
