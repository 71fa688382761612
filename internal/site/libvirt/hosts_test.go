package libvirt

import (
	"crypto/ed25519"
	"encoding/pem"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"pgregory.net/rapid"

	"andamio/internal/site/driver"
)

func TestHostsAsPeopleWriteThem(t *testing.T) {
	for text, want := range map[string]string{
		"unix":                      "local=unix:/var/run/libvirt/libvirt-sock",
		"unix:/run/x":               "local=unix:/run/x",
		"h1=unix:/run/x":            "h1=unix:/run/x",
		"ssh://ana@h1.example":      "h1.example=ssh://ana@h1.example:22/var/run/libvirt/libvirt-sock",
		"ssh://h1.example:2222/s":   "h1.example=ssh://root@h1.example:2222/s",
		"tls://h1.example":          "h1.example=tls://h1.example:16514",
		"tcp://127.0.0.1":           "127.0.0.1=tcp://127.0.0.1:16509",
		"a=tls://h:1, b=tls://h:2":  "a=tls://h:1,b=tls://h:2",
		"ssh://ana@[2001:db8::1]:2": "",
	} {
		got, err := hostsAs(text)
		if want == "" {
			assert.ErrorContains(t, err, "is no name of a host", text)
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
		again, err := hostsAs(got)
		require.NoError(t, err)
		assert.Equal(t, got, again, "what it comes to is itself")
	}
	for text, says := range map[string]string{
		"": "no host is named", " , ": "no host is named", "h1.example": "is no host", "http://h": "is no host", "unix:run/x": "whole path", "ssh://": "names no host",
		"ssh://a:secret@h": "no password", "tls://ana@h": "nothing but a host", "tls://h/x": "nothing but a host", "unix,unix": "two hosts are called local",
		"tls://h,ssh://h": "two hosts are called h", "-x=unix": "is no name of a host",
	} {
		_, err := hostsAs(text)
		assert.ErrorContains(t, err, says, text)
	}
}

// key is a private key as a file has it, and its public half.
func key(t *testing.T) (private, public string) {
	t.Helper()
	pub, priv, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(priv, "")
	require.NoError(t, err)
	k, err := ssh.NewPublicKey(pub)
	require.NoError(t, err)
	return string(pem.EncodeToMemory(block)), string(ssh.MarshalAuthorizedKey(k))
}

func TestWhatIsWrongWithAConnection(t *testing.T) {
	private, public := key(t)
	kit := Kit()
	for name, c := range map[string]struct {
		v    driver.Values
		says string
	}{
		"this machine needs nothing":  {driver.Values{"hosts": "unix"}, ""},
		"no host":                     {driver.Values{}, "hosts is missing"},
		"SSH with both keys":          {driver.Values{"hosts": "ssh://h", "key": private, "host-key": public}, ""},
		"SSH as a known host stands":  {driver.Values{"hosts": "ssh://h", "key": private, "host-key": "h.example " + public}, ""},
		"SSH to a host nobody knows":  {driver.Values{"hosts": "ssh://h", "key": private}, "its key is not known"},
		"a host key that is none":     {driver.Values{"hosts": "ssh://h", "host-key": "ssh-ed25519 what"}, "no key of an SSH server"},
		"a private key that is none":  {driver.Values{"hosts": "ssh://h", "key": "what", "host-key": public}, "private key cannot be read"},
		"in clear over a network":     {driver.Values{"hosts": "tcp://h"}, "in clear"},
		"in clear, and meant":         {driver.Values{"hosts": "tcp://h", "insecure": driver.On}, ""},
		"in clear on this machine":    {driver.Values{"hosts": "tcp://127.0.0.1"}, ""},
		"as many as can share a core": {driver.Values{"hosts": "unix", "overcommit": "64"}, ""},
		"more":                        {driver.Values{"hosts": "unix", "overcommit": "65"}, "between 1 and 64"},
		"an authority that is none":   {driver.Values{"hosts": "tls://h", "authority": "what"}, "certificate"},
	} {
		v, err := kit.Normal(c.v)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, name)
			continue
		}
		require.NoError(t, err, name)
		_, err = kit.Open(driver.Terms{Site: "forja", Values: v})
		assert.NoError(t, err, name)
	}
	assert.Contains(t, exposed(driver.Values{"hosts": "tcp://h"}), "in clear")
	assert.Empty(t, exposed(driver.Values{"hosts": "tcp://127.0.0.1"}))
	assert.Equal(t, []string{"own authority", "hosts known by their key", "machines in plain emulation"},
		guards(driver.Values{"hosts": "unix", "authority": "a", "host-key": "k", "emulated": driver.On}))
}

// TestAddressesAreChosen holds that an address is given that lies in the range, is nobody's, and is not the host's own.
func TestAddressesAreChosen(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		bits := rapid.IntRange(22, 29).Draw(t, "bits")
		cidr := netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(rapid.IntRange(16, 239).Draw(t, "a")), byte(rapid.IntRange(0, 255).Draw(t, "b")), 0}), bits).Masked()
		low, high := ends(cidr)
		kept := map[string]string{}
		for i := range rapid.IntRange(0, 40).Draw(t, "machines") {
			address, err := choose(cidr, kept, "")
			if err != nil {
				if len(kept) != 1<<(32-bits)-3 {
					t.Fatalf("%d of %s are kept, and none is left", len(kept), cidr)
				}
				return
			}
			a := netip.MustParseAddr(address)
			if !cidr.Contains(a) || a == low || a.Compare(high) > 0 {
				t.Fatalf("%s of %s", a, cidr)
			}
			for _, other := range kept {
				if other == address {
					t.Fatalf("%s is given twice", a)
				}
			}
			kept[string(rune('a'+i))] = address
		}
	})
	cidr := netip.MustParsePrefix("10.20.30.0/24")
	for want, says := range map[string]string{"10.20.30.9": "", "10.20.30.1": "can have", "10.20.30.0": "can have", "10.20.30.255": "can have", "10.20.31.9": "can have",
		"what": "can have", "10.20.30.8": "somebody else's"} {
		got, err := choose(cidr, map[string]string{"m": "10.20.30.8"}, want)
		if says != "" {
			assert.ErrorContains(t, err, says, want)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}

func TestRangesThatANetworkMayHave(t *testing.T) {
	assert.Equal(t, []string{"10.1.0.0/24"}, ranges("id", "10.1.0.0/24"), "the one that is asked for")
	all := ranges("some id", "")
	assert.Len(t, all, 16)
	assert.Equal(t, all, ranges("some id", ""), "the same every time")
	assert.NotEqual(t, all, ranges("another", ""))
	for _, text := range all {
		p, err := netip.ParsePrefix(text)
		require.NoError(t, err)
		b := p.Addr().As4()
		assert.True(t, b[0] == 10 && b[1] >= 16 && b[1] < 240 && p.Bits() == 24, text)
	}
}
