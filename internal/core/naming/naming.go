// Package naming makes the names of instances by a site's rule, and holds names against it.
//
// In go a rule and what is known of an instance; out comes a name, or what is wrong with it. A rule's template has variables
// written ${name}: deployment, service, node, index, site, zone.
package naming

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"andamio/internal/core/estate"
)

// Values are what a name can be made of.
type Values struct{ Deployment, Service, Node, Index, Site, Zone string }

func (v Values) all() map[string]string {
	return map[string]string{"deployment": v.Deployment, "service": v.Service, "node": v.Node, "index": v.Index, "site": v.Site, "zone": v.Zone}
}

var variable = regexp.MustCompile(`\$\{([^}]*)\}`)

// Name is the name of an instance under a rule; without a rule, or one that has no template, node and index. Dots would part
// domains, so that they become dashes.
func Name(rule *estate.Naming, v Values) (string, error) {
	if rule == nil || rule.Template == "" {
		return plain(v.Node + "-" + v.Index), nil
	}
	known, unknown := v.all(), ""
	name := variable.ReplaceAllStringFunc(rule.Template, func(s string) string {
		value, ok := known[s[2:len(s)-1]]
		if !ok {
			unknown = s
		}
		return value
	})
	if unknown != "" {
		return "", fmt.Errorf("the naming rule %q asks for %s; there are %s", rule.Template, unknown, strings.Join(slices.Sorted(maps.Keys(known)), ", "))
	}
	return plain(name), nil
}

func plain(name string) string { return strings.Trim(strings.ReplaceAll(name, ".", "-"), "-") }

// Fits reports whether a name matches a rule's pattern as a whole.
func Fits(rule *estate.Naming, name string) bool {
	if rule == nil || rule.Pattern == "" {
		return true
	}
	re, err := regexp.Compile("^(?:" + rule.Pattern + ")$")
	return err != nil || re.MatchString(name)
}

// Preview is the name that a rule would make of an example, for showing beside the rule.
func Preview(s *estate.Site) string {
	zone := ""
	if len(s.Zones) > 0 {
		zone = s.Zones[0].Name
	}
	name, err := Name(s.Naming, Values{Deployment: "flood-watch", Service: "gauge", Node: "gauge-node", Index: "1", Site: s.Name, Zone: zone})
	if err != nil {
		return err.Error()
	}
	if !Fits(s.Naming, name) {
		return name + ", against its own pattern"
	}
	return name
}
