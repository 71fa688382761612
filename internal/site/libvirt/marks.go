package libvirt

import (
	"encoding/xml"
	"maps"
	"slices"
	"strings"

	"github.com/digitalocean/go-libvirt"
)

// mark is what is ours in a definition: an element of its own in the metadata, so that two who write about two things at a time do not
// take each other's away. That of a machine's interface or attachment has the namespace of that link.
type mark struct {
	XMLName xml.Name `xml:"thing"`
	Name    string   `xml:"name,attr"`
	Mark    string   `xml:"mark,attr,omitempty"`
	// HostKey is the public key of the SSH server that a machine was given, Image what it was started from, and Hostname its name in
	// the system.
	HostKey  string `xml:"host-key,attr,omitempty"`
	Image    string `xml:"image,attr,omitempty"`
	Hostname string `xml:"hostname,attr,omitempty"`
	// Asleep machines were asked for without being switched on.
	Asleep bool `xml:"asleep,attr,omitempty"`
	// Kind is that of a link, Target what it leads to, Location where a volume is to be found, and Ports those that are to be reached.
	Kind     string `xml:"kind,attr,omitempty"`
	Target   string `xml:"target,attr,omitempty"`
	Location string `xml:"location,attr,omitempty"`
	Ports    string `xml:"ports,attr,omitempty"`
	// Address and MAC are those of an interface, Begun when a link was asked for (Unix seconds).
	Address string `xml:"address,attr,omitempty"`
	MAC     string `xml:"mac,attr,omitempty"`
	Begun   int64  `xml:"begun,attr,omitempty"`
	Tags    []tag  `xml:"tag"`
}

type tag struct {
	Name  string `xml:"name,attr"`
	Value string `xml:"value,attr"`
}

// prefix is that of the namespaces of our elements.
const prefix = "andamio"

// linkSpace is the namespace of what is noted of a link.
func linkSpace(id string) string { return Namespace + "/link/" + id }

// tags are a mark's, by name.
func (m *mark) tags() map[string]string {
	out := map[string]string{}
	for _, t := range m.Tags {
		out[t.Name] = t.Value
	}
	return out
}

// retag changes tags.
func (m *mark) retag(now map[string]string) {
	all := tagged(m.tags(), now)
	m.Tags = nil
	for _, name := range slices.Sorted(maps.Keys(all)) {
		m.Tags = append(m.Tags, tag{name, all[name]})
	}
}

// text is the element as the daemon takes it, which puts the namespace to it; within says it is put into a definition.
func (m mark) text(within string) string {
	out, _ := xml.Marshal(m) // of plain fields
	if within == "" {
		return string(out)
	}
	return strings.Replace("<"+prefix+":"+strings.TrimSuffix(strings.TrimPrefix(string(out), "<"), "</thing>")+"</"+prefix+":thing>",
		prefix+":thing", prefix+":thing xmlns:"+prefix+"=\""+within+"\"", 1)
}

// marksIn are our elements in the metadata of a definition, by what follows our namespace: "" is the thing itself.
func marksIn(metadata string) map[string]mark {
	out := map[string]mark{}
	dec := xml.NewDecoder(strings.NewReader("<metadata>" + metadata + "</metadata>"))
	for {
		token, err := dec.Token()
		if err != nil {
			return out
		}
		start, opens := token.(xml.StartElement)
		if !opens || !strings.HasPrefix(start.Name.Space, Namespace) || start.Name.Local != "thing" {
			continue
		}
		var m mark
		space := strings.TrimPrefix(start.Name.Space, Namespace)
		start.Name.Space = ""
		if dec.DecodeElement(&m, &start) == nil {
			out[strings.TrimPrefix(space, "/link/")] = m
		}
	}
}

// keep writes a mark of a machine, in place of what there was; nil takes it away.
func keep(l *libvirt.Libvirt, of *domain, space string, m *mark) error {
	var text libvirt.OptString
	if m != nil {
		text = libvirt.OptString{m.text("")}
	}
	return l.DomainSetMetadata(of.Domain, int32(libvirt.DomainMetadataElement), text, libvirt.OptString{prefix}, libvirt.OptString{space}, of.both())
}
