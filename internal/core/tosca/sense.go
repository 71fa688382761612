package tosca

import (
	"net/netip"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// checkSense looks for what is allowed by each rule for itself and cannot work or makes no sense all the same: networks that are none, attributes that
// nothing puts out, inputs that nothing uses.
func (r *reader) checkSense() {
	r.checkNetworks()
	r.checkReads()
	r.doubtInputs()
}

// typeNetwork is the standard's type of networks (section 8.5.1).
const typeNetwork = "tosca.nodes.network.Network"

// checkNetworks checks addresses of networks as far as they are written down.
func (r *reader) checkNetworks() {
	type network struct {
		prefix netip.Prefix
		node   *Node
	}
	var before []network
	for _, n := range r.tmpl.Nodes {
		if n.Type == nil || !n.Type.Is(typeNetwork) || n.Directive("select") {
			continue
		}
		prefix, ok := r.checkPrefix(n)
		if !ok {
			continue
		}
		for _, was := range before {
			switch {
			case was.prefix == prefix:
				r.diags.at(n.Properties["cidr"].at, CodeConstraint, "%s and %s have the same addresses, %s: nothing in one could be told from what is in the other", was.node.Name, n.Name, prefix).see(was.node.Pos)
			case was.prefix.Overlaps(prefix):
				r.diags.at(n.Properties["cidr"].at, CodeConstraint, "%s has addresses of %s, %s and %s: what is in one could not be told from what is in the other", n.Name, was.node.Name, prefix, was.prefix).see(was.node.Pos)
			}
		}
		before = append(before, network{prefix, n})
		for _, name := range []string{"start_ip", "end_ip", "gateway_ip"} {
			r.checkAddress(n, name, prefix)
		}
		r.checkRange(n)
	}
}

// checkRange refuses a range of addresses that ends before it starts.
func (r *reader) checkRange(n *Node) {
	start, okStart := n.Properties["start_ip"].address()
	end, okEnd := n.Properties["end_ip"].address()
	if okStart && okEnd && end.Less(start) {
		r.diags.at(n.Properties["end_ip"].at, CodeConstraint, "end_ip is %s, which comes before start_ip, %s", end, start).see(n.Properties["start_ip"].at.Pos)
	}
}

// address is an address that is written down.
func (v *Value) address() (netip.Addr, bool) {
	if v == nil {
		return netip.Addr{}, false
	}
	text, _ := v.Text()
	a, err := netip.ParseAddr(text)
	return a, err == nil
}

// checkPrefix is the network of a node, if it is written down and is one.
func (r *reader) checkPrefix(n *Node) (netip.Prefix, bool) {
	v := n.Properties["cidr"]
	if v == nil {
		return netip.Prefix{}, false
	}
	text, is := v.Text()
	if !is {
		return netip.Prefix{}, false
	}
	prefix, err := netip.ParsePrefix(text)
	if err != nil {
		r.diags.at(v.at, CodeConstraint, "cidr is %s, which is no network", quote(text)).hint("a network is its first address and how many bits of it are fixed (RFC 4632), such as 10.20.4.0/24")
		return prefix, false
	}
	if version := n.Properties["ip_version"]; version != nil && version.Literal == int64(4) && prefix.Addr().Is6() || version != nil && version.Literal == int64(6) && prefix.Addr().Is4() {
		r.diags.at(version.at, CodeConstraint, "ip_version is %v, and cidr is %s", version.Literal, prefix).see(v.at.Pos)
	}
	if prefix != prefix.Masked() {
		r.diags.at(v.at, CodeConstraint, "cidr is %s, which is an address within a network", quote(text)).hint("did you mean %s?", prefix.Masked())
		return prefix, false
	}
	return prefix, true
}

// checkAddress checks an address of a network.
func (r *reader) checkAddress(n *Node, name string, of netip.Prefix) {
	v := n.Properties[name]
	if v == nil {
		return
	}
	text, is := v.Text()
	if !is {
		return
	}
	if address, err := netip.ParseAddr(text); err != nil {
		r.diags.at(v.at, CodeConstraint, "%s is %s, which is no address", name, quote(text))
	} else if !of.Contains(address) {
		r.diags.at(v.at, CodeConstraint, "%s is %s, which is not within %s", name, text, of).see(n.Properties["cidr"].at.Pos)
	}
}

// attributeOf is an attribute of a node.
type attributeOf struct{ node, name string }

// checkReads refuses to wait for attributes that nothing ever puts out: those of the template's own types that have no default, are given nothing, and are the
// output of no operation. What the standard's types have comes from sites.
func (r *reader) checkReads() {
	put, anywhere := r.putOut()
	check := func(v *Value, self *Node) {
		v.each(func(v *Value) {
			if v.Func != "get_attribute" || len(v.Items) != 2 {
				return
			}
			n := self
			if word := Show(v.Items[0].Plain()); word != "SELF" {
				n = r.tmpl.nodes[word]
			}
			name := Show(v.Items[1].Plain())
			if n == nil || n.Type == nil || n.Directive("substitute") || put[attributeOf{n.Name, name}] || anywhere[name] || n.Attributes[name] != nil {
				return
			}
			if def := find(n.Type.Attributes, name); def != nil && def.Default == nil && n.Type.Property(name) == nil && r.sources[def.Pos.File] != nil {
				r.diags.at(v.Items[1].at, CodeUnknownRef, "nothing ever gives the attribute %s of %s a value", name, n.Name).
					hint("have an operation put it out (outputs: { %s: [ SELF, %s ] }), or give it a default", name, name).see(def.Pos)
			}
		})
	}
	for _, o := range r.tmpl.Outputs {
		check(o.Value, nil)
	}
	for _, n := range r.tmpl.Nodes {
		for _, v := range n.Properties {
			check(v, n)
		}
		for _, i := range n.Interfaces {
			for _, op := range i.Operations {
				for _, in := range op.Inputs {
					check(in.Value, n)
				}
			}
		}
	}
}

// putOut are the attributes that operations put out, by node; those that relationships put out are at either end.
func (r *reader) putOut() (put map[attributeOf]bool, anywhere map[string]bool) {
	put, anywhere = map[attributeOf]bool{}, map[string]bool{}
	each := func(all []*Interface, do func(m *OutputMapping)) {
		for _, i := range all {
			for _, op := range slices.Concat(i.Operations, i.Notifications) {
				for k := range op.Outputs {
					do(&op.Outputs[k])
				}
			}
		}
	}
	for _, n := range r.tmpl.Nodes {
		each(n.Interfaces, func(m *OutputMapping) { put[attributeOf{n.Name, m.Path[1]}] = true })
		for _, a := range n.Requirements {
			each(a.Interfaces, func(m *OutputMapping) { anywhere[m.Path[1]] = true })
		}
	}
	return put, anywhere
}

// each visits a value and all that is in it.
func (v *Value) each(do func(v *Value)) {
	if v == nil || v.Kind == Literal {
		return
	}
	if v.Kind == Call {
		do(v)
	}
	for _, item := range v.Items {
		item.each(do)
	}
}

// unread notes which inputs of a template nothing reads: neither a value of any file, nor what the template stands for.
func (r *reader) unread(t *Template) {
	if len(t.Inputs) == 0 {
		return
	}
	left := map[string]bool{}
	for _, in := range t.Inputs {
		left[in.Name] = true
	}
	for _, doc := range r.docs {
		doc.root.tree.reads(left)
	}
	if t.Substitution != nil {
		for _, m := range t.Substitution.Properties {
			delete(left, m.Input)
		}
	}
	for _, in := range t.Inputs {
		r.unused[in] = left[in.Name]
	}
}

// doubtInputs doubts inputs that nothing reads: whoever gives one expects that it does something.
func (r *reader) doubtInputs() {
	if slices.ContainsFunc(r.diags, func(d Diagnostic) bool { return d.Severity == Mistake }) {
		return // there is something better to do
	}
	for _, in := range r.tmpl.Inputs {
		if r.unused[in] {
			r.diags.at(place{in.Property.Pos, len(in.Name)}, CodeUnused, "nothing uses the input %s", in.Name).doubt().hint("read it with { get_input: %s }, or remove it", in.Name)
		}
	}
}

// reads takes away the names of inputs that a tree reads.
func (t *tree) reads(left map[string]bool) {
	if len(left) == 0 {
		return
	}
	for i := range t.content {
		if t.form == mapping && i%2 == 1 && t.content[i-1].value == "get_input" {
			arg := &t.content[i]
			if arg.form == sequence && len(arg.content) > 0 {
				arg = &arg.content[0]
			}
			delete(left, arg.value)
		}
		t.content[i].reads(left)
	}
}

// checkScript refuses scripts for shells that no shell could read.
func (r *reader) checkScript(at Pos, name, file string, text []byte) {
	lang, is := shellOf(file, text)
	if !is {
		return
	}
	_, err := syntax.NewParser(syntax.Variant(lang)).Parse(strings.NewReader(string(text)), "")
	if err == nil {
		return
	}
	d := r.diags.at(place{at, len(name)}, CodeArtifact, "the script %s is no shell script: %s", name, strings.TrimPrefix(err.Error(), ":"))
	if parse, ok := err.(syntax.ParseError); ok { //nolint:errorlint // the parser returns nothing else
		d.see(Pos{file, int(parse.Pos.Line()), int(parse.Pos.Col())})
		d.Message = "the script " + name + " is no shell script: " + parse.Text
	}
}

// shellOf is the language of a script, by its first line or else its name.
func shellOf(file string, text []byte) (syntax.LangVariant, bool) {
	first, _, _ := strings.Cut(string(text[:min(len(text), 200)]), "\n")
	words := strings.Fields(strings.TrimPrefix(first, "#!"))
	if strings.HasPrefix(first, "#!") && len(words) > 0 {
		program := path.Base(words[0])
		if program == "env" && len(words) > 1 {
			program = words[len(words)-1]
		}
		switch program {
		case "sh", "dash", "ash":
			return syntax.LangPOSIX, true
		case "bash":
			return syntax.LangBash, true
		}
		return 0, false
	}
	return syntax.LangBash, path.Ext(file) == ".sh"
}
