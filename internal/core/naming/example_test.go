package naming_test

import (
	"fmt"

	"andamio/internal/core/estate"
	"andamio/internal/core/naming"
)

// A site's rule makes the names of its instances.
func ExampleName() {
	rule := &estate.Naming{Template: "${deployment}-${node}-${index}"}
	name, err := naming.Name(rule, naming.Values{Deployment: "gauge", Node: "host", Index: "1"})
	fmt.Println(name, err)
	_, err = naming.Name(&estate.Naming{Template: "${owner}"}, naming.Values{})
	fmt.Println(err)
	// Output:
	// gauge-host-1 <nil>
	// the naming rule "${owner}" asks for ${owner}; there are deployment, index, node, service, site, zone
}
