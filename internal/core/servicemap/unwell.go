package servicemap

import (
	"cmp"
	"fmt"
	"strings"

	"andamio/internal/core/alarm"
)

// Trouble is what is wrong with a node, by an alert.
type Trouble struct {
	Severity alarm.Severity `json:"severity"`
	// Alert is the alert's number, Words what is wrong with the node itself, or what it comes of.
	Alert int64  `json:"alert"`
	Words string `json:"words"`
	// Cause says that it is what the alert names as the cause.
	Cause bool `json:"cause,omitempty"`
}

// Troubles are what is wrong with the nodes of a map, by their ids: with what alerts name as their cause, with what is below that, and with the services that it takes down or weakens.
func (m *Map) Troubles(alerts []alarm.Alert) map[string]Trouble {
	out := map[string]Trouble{}
	for i := range alerts {
		a := &alerts[i]
		put := func(id string, t Trouble) {
			if was, known := out[id]; id != "" && (!known || cmp.Or(cmp.Compare(t.Severity, was.Severity), compareBool(t.Cause, was.Cause)) > 0) {
				out[id] = t
			}
		}
		put(m.nodeOf(a.Cause), Trouble{a.Severity, a.ID, a.Words, true})
		for k := range a.Alarms {
			x := &a.Alarms[k]
			put(m.nodeOf(x.Thing), Trouble{x.Severity, a.ID, x.Words, x.Thing == a.Cause})
		}
		m.hit(a, a.Down, alarm.Critical, "taken down by %s", put)
		m.hit(a, a.Weakened, alarm.Warning, "weakened by %s", put)
	}
	return out
}

// hit has services be in trouble that an alert hits.
func (m *Map) hit(a *alarm.Alert, services []string, s alarm.Severity, words string, put func(string, Trouble)) {
	for i := range m.Nodes {
		n := &m.Nodes[i]
		for _, name := range services {
			if n.Layer == Services && n.Name == name {
				put(n.ID, Trouble{s, a.ID, fmt.Sprintf(words, a.Title()), false})
			}
		}
	}
}

func compareBool(a, b bool) int {
	switch {
	case a && !b:
		return 1
	case b && !a:
		return -1
	}
	return 0
}

// nodeOf is the node of a thing that is measured, or that explains what is: an instance, what runs on it, a host, a zone, a site; "" for what is in no map. What answers is its software.
func (m *Map) nodeOf(key string) string {
	kind, rest, _ := strings.Cut(key, " ")
	switch kind {
	case "instance":
		return m.places[rest]
	case "zone":
		key = "host " + rest + "/"
	case "endpoint":
		for id := "part " + rest; ; {
			if m.Node(id) != nil {
				return id
			}
			at := strings.LastIndexByte(id, '.')
			if at < 0 {
				return ""
			}
			id = id[:at]
		}
	}
	if m.Node(key) == nil {
		return ""
	}
	return key
}
