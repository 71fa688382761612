package tosca

import (
	"embed"
	"path"
	"strings"
	"sync"
)

// shippedFiles are templates that come with Andamio and stand for abstract nodes of the standard, each in a folder of its own.
//
//go:embed shipped
var shippedFiles embed.FS

// shippedRoot is what the names of their files begin with, which no file of a template does.
const shippedRoot = "andamio:"

// orShipped opens the files that come with Andamio too. A file of that name that is kept with a template is opened before them, so that what was raised
// with an earlier one goes on with it.
func orShipped(open Opener) Opener {
	return func(name string) ([]byte, error) {
		inside, ships := Inside(name)
		if !ships {
			return open(name)
		}
		if data, err := open(name); err == nil {
			return data, nil
		}
		return shippedFiles.ReadFile(path.Join("shipped", inside))
	}
}

// Shipped reports that a file of a template came with Andamio.
func Shipped(file string) bool {
	_, ships := Inside(file)
	return ships
}

// Inside is the name of a file that came with Andamio among the others that did; false if it did not.
func Inside(file string) (string, bool) { return strings.CutPrefix(file, shippedRoot+"/") }

// shippedFor are the names of the types for which a template comes with Andamio, in all their forms, with the folder of it.
var shippedFor = sync.OnceValue(func() map[string]string {
	out := map[string]string{}
	ts := builtins()
	for _, t := range ts.byKind[NodeTypes] {
		if folder := t.Metadata[MetaShipped]; folder != "" {
			out[t.Name], out["tosca:"+t.Metadata["shorthand_name"]], out[t.Metadata["shorthand_name"]] = folder, folder, folder
		}
	}
	return out
})

// loadShipped loads the templates that stand for nodes where no other does: they come after all that the files bring.
func (r *reader) loadShipped() {
	wanted := map[string]Pos{}
	for _, doc := range r.docs {
		topology, _ := doc.root.get("topology_template")
		nodes, _ := topology.get("node_templates")
		if nodes.tree == nil || nodes.form != mapping {
			continue
		}
		for _, p := range nodes.pairs() {
			t, _ := p.value.get("type")
			if t.tree == nil {
				continue
			}
			if folder := shippedFor()[t.value]; folder != "" {
				wanted[folder] = p.value.pos()
			}
		}
	}
	for _, folder := range sortedKeys(wanted) {
		r.load(path.Join(shippedRoot, folder, "template.yaml"), "", wanted[folder])
	}
}
