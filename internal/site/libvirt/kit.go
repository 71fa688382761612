package libvirt

import (
	"cmp"
	_ "embed"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
	"andamio/internal/site/driver"
	"andamio/internal/web"
)

// The fields of a connection.
const (
	fieldHosts       = "hosts"
	fieldAuthority   = "authority"
	fieldCertificate = "certificate"
	fieldKey         = "key"
	fieldHostKey     = "host-key"
	fieldPool        = "pool"
	fieldImages      = "images"
	fieldEmulated    = "emulated"
	fieldOvercommit  = "overcommit"
	fieldInsecure    = "insecure"
)

// The pools that are used where none is named.
const (
	usualPool   = "default"
	usualImages = "images"
	// usualOvercommit is how many cores of machines share one of the host's where nobody says.
	usualOvercommit = 4
)

//go:embed mapping.yaml
var shippedMapping []byte

// Kit is the driver.
func Kit() *driver.Driver {
	return &driver.Driver{
		Name: "libvirt", About: "hosts with libvirt and QEMU, one or many",
		Address: fieldHosts,
		Questions: []driver.Question{
			{Word: "hosts", Text: "which hosts?",
				About: "unix (this machine), ssh://USER@HOST or tls://HOST, several between commas; NAME= before one names it. " +
					"Each is a zone of the site. Without a port it is the usual one.",
				Fields: []driver.Field{{Name: fieldHosts, About: "hosts of the site, between commas", Needed: true, Check: hostsAs}}},
			{Word: "trust", Text: "with which keys?", Unsaid: "none: this machine's own",
				About: "Empty for this machine. Between commas: key FILE (the private key for SSH or TLS), host key TEXT (SSH), authority FILE and certificate FILE (TLS); " +
					"or in clear, for tcp over a network: then everything can be read on the way, and the site is marked so.",
				Fields: []driver.Field{
					{Name: fieldKey, Word: "key", File: true, Secret: true, About: "file of the private key (OpenSSH or PEM)"},
					{Name: fieldHostKey, Word: "host key", Takes: "TEXT", About: "public key of the hosts' SSH servers, as TYPE BASE64", Check: hostKeyAs},
					{Name: fieldAuthority, Word: "authority", File: true, About: "file of certificates of those who vouch for the site (PEM), instead of those whom this machine trusts"},
					{Name: fieldCertificate, Word: "certificate", File: true, About: "file of the certificate that says who we are (PEM)"},
					{Name: fieldInsecure, Word: "in clear", Switch: true, About: "take an address of tcp, over which everything can be read; the site is marked for ever"},
				}},
			{Word: "storage", Text: "which storage pools?", Unsaid: usualPool + ", and images of " + usualImages,
				About: "pool NAME is where disks are made that name no class of storage, images NAME where images lie, overcommit N how many cores of machines share one of a host's, " +
					"emulated has machines run without KVM.",
				Fields: []driver.Field{
					{Name: fieldPool, Word: "pool", Takes: "NAME", About: "storage pool for disks that name no class (usually " + usualPool + ")"},
					{Name: fieldImages, Word: "images", Takes: "NAME", About: "storage pool in which images lie, each a volume (usually " + usualImages + ")"},
					{Name: fieldOvercommit, Word: "overcommit", Takes: "N", About: "how many cores of machines share one of a host's (usually 4)", Check: overcommitAs},
					{Name: fieldEmulated, Word: "emulated", Switch: true, About: "run machines in plain emulation although the hosts could do better"},
				}},
		},
		Check: check, Exposed: exposed, Guards: guards, Open: open,
		Kinds:   []kinds.Kind{kinds.Network, kinds.Volume, kinds.Instance, kinds.Interface, kinds.Attachment, kinds.Snapshot},
		Mapping: shippedMapping,
	}
}

// open makes a driver of one site.
func open(t driver.Terms) (site.Site, error) {
	all, err := places(t.Values[fieldHosts])
	if err != nil {
		return nil, err
	}
	k, err := keysOf(t.Values)
	if err != nil {
		return nil, err
	}
	d := &Driver{name: t.Site, overcommit: usualOvercommit, pool: cmp.Or(t.Values[fieldPool], usualPool), images: cmp.Or(t.Values[fieldImages], usualImages), emulated: t.Values[fieldEmulated] != ""}
	if text := t.Values[fieldOvercommit]; text != "" {
		if d.overcommit, err = strconv.Atoi(text); err != nil {
			return nil, err
		}
	}
	for _, p := range all {
		h := &host{site: t.Site, name: p.name, door: p.door(k, t.Dial), patience: cmp.Or(t.Patience, Timeout)}
		d.hosts = append(d.hosts, h)
		h.first = d.hosts[0]
	}
	return d, nil
}

// keysOf reads what opens the doors of the hosts.
func keysOf(v driver.Values) (keys, error) {
	var k keys
	var err error
	all, _ := places(v[fieldHosts])
	for _, p := range all {
		switch {
		case p.way == byTLS && k.tls == nil:
			k.tls, err = web.Trust{Authorities: v[fieldAuthority], Certificate: v[fieldCertificate], Key: v[fieldKey]}.Config()
		case p.way == bySSH && v[fieldKey] != "" && k.signer == nil:
			if k.signer, err = ssh.ParsePrivateKey([]byte(v[fieldKey])); err != nil {
				err = errors.New("the private key cannot be read: it must be one of OpenSSH or PEM, and bear no passphrase")
			}
		}
		if err != nil {
			return k, err
		}
	}
	if text := v[fieldHostKey]; text != "" {
		k.hostKey, _, _, _, err = ssh.ParseAuthorizedKey([]byte(text))
	}
	return k, err
}

// hostKeyAs takes a key as it stands in files of known hosts or by itself.
func hostKeyAs(text string) (string, error) {
	words := strings.Fields(text)
	for i := range words {
		if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(strings.Join(words[i:], " "))); err == nil {
			return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key))), nil
		}
	}
	return "", errors.New("no key of an SSH server can be read in that; write TYPE BASE64, as ssh-keyscan prints it")
}

// overcommitAs takes a number of cores that share one.
func overcommitAs(text string) (string, error) {
	if n, err := strconv.Atoi(text); err != nil || n < 1 || n > 64 {
		return "", fmt.Errorf("%q: between 1 and 64 cores of machines share one of a host's", text)
	}
	return text, nil
}

// check says what is wrong with a connection.
func check(v driver.Values) error {
	all, err := places(v[fieldHosts])
	if err != nil {
		return err
	}
	for _, p := range all {
		switch {
		case p.inClear() && v[fieldInsecure] == "":
			return fmt.Errorf("%s is spoken to in clear: use ssh or tls, or say that it is meant (--insecure, on screen: in clear)", p)
		case p.way == bySSH && v[fieldHostKey] == "":
			return fmt.Errorf("%s is reached over SSH, and its key is not known: say --host-key with what ssh-keyscan prints, once you have seen that it is right", p.name)
		}
	}
	_, err = keysOf(v)
	return err
}

func exposed(v driver.Values) string {
	all, _ := places(v[fieldHosts])
	for _, p := range all {
		if p.inClear() {
			return "in clear: what is sent can be read on the way"
		}
	}
	return ""
}

// guards says how the connection is secured beyond the usual.
func guards(v driver.Values) []string {
	var out []string
	if v[fieldAuthority] != "" {
		out = append(out, "own authority")
	}
	if v[fieldHostKey] != "" {
		out = append(out, "hosts known by their key")
	}
	if v[fieldEmulated] != "" {
		out = append(out, "machines in plain emulation")
	}
	return out
}
