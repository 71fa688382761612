// Package drivers lists the drivers there are. A new one is a folder below package site, and a line here.
package drivers

import (
	"fmt"
	"slices"
	"strings"

	"andamio/internal/site/driver"
	"andamio/internal/site/libvirt"
	"andamio/internal/site/occi"
)

// All are the drivers, the usual one first.
var All = []*driver.Driver{
	occi.Kit(),
	libvirt.Kit(),
}

// Named is the driver of a name; "" is the usual one.
func Named(name string) (*driver.Driver, error) {
	if name == "" {
		return All[0], nil
	}
	if i := slices.IndexFunc(All, func(d *driver.Driver) bool { return d.Name == name }); i >= 0 {
		return All[i], nil
	}
	var names []string
	for _, d := range All {
		names = append(names, d.Name)
	}
	return nil, fmt.Errorf("no driver is called %q; there are %s", name, strings.Join(names, ", "))
}
