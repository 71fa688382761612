package tosca

import (
	"slices"
	"strconv"
	"strings"
)

// keys checks the keynames of a mapping: reports unknown and missing ones. It reports false if n is no mapping.
func (r *reader) keys(n node, what string, required []string, known ...string) bool {
	return checkKeys(&r.diags, n, what, required, known)
}

func checkKeys(diags *Diagnostics, n node, what string, required, known []string) bool {
	if n.form != mapping {
		diags.at(n.place(), CodeShape, "%s is a mapping, not %s", what, kindName(n))
		return false
	}
	for _, p := range n.pairs() {
		if !slices.Contains(known, p.name) {
			diags.at(p.key.place(), CodeUnknownKey, "%s has no keyname %q", what, p.name).suggest(p.name, known)
		}
	}
	for _, k := range required {
		if _, ok := n.get(k); !ok {
			diags.at(n.named(), CodeMissingKey, "%s needs the keyname %q", what, k)
		}
	}
	return true
}

func kindName(n node) string {
	switch {
	case n.isNull():
		return "empty"
	case n.form == sequence:
		return "a list"
	case n.form == mapping:
		return "a mapping"
	default:
		return "the value " + strconv.Quote(n.value)
	}
}

// mapping returns the pairs under a key, or none; it reports a value that is no mapping.
func (r *reader) mapping(n node, key string) []pair {
	v, ok := n.get(key)
	if !ok || v.isNull() {
		return nil
	}
	if v.form != mapping {
		r.diags.at(v.place(), CodeShape, "%s is a mapping, not %s", key, kindName(v))
		return nil
	}
	return v.pairs()
}

// list returns the items under a key, or none; it reports a value that is no list.
func (r *reader) list(n node, key string) []node {
	v, ok := n.get(key)
	if !ok || v.isNull() {
		return nil
	}
	if v.form != sequence {
		r.diags.at(v.place(), CodeShape, "%s is a list, not %s", key, kindName(v))
		return nil
	}
	return v.items()
}

// text returns the scalar under a key, or "".
func (r *reader) text(n node, key string) string {
	v, ok := n.get(key)
	if !ok || v.isNull() {
		return ""
	}
	if v.form != scalar {
		r.diags.at(v.place(), CodeShape, "%s is text, not %s", key, kindName(v))
		return ""
	}
	return v.value
}

// texts returns the scalars of a list under a key; a lone scalar counts as a list of one.
func (r *reader) texts(n node, key string) []string {
	var out []string
	for _, w := range r.words(n, key) {
		out = append(out, w.value)
	}
	return out
}

// words are texts with where each of them stands.
func (r *reader) words(n node, key string) []node {
	v, ok := n.get(key)
	if ok && v.form == scalar && !v.isNull() {
		return []node{v}
	}
	var out []node
	for _, item := range r.list(n, key) {
		if item.form != scalar {
			r.diags.at(item.place(), CodeShape, "%s lists names, not %s", key, kindName(item))
			continue
		}
		out = append(out, item)
	}
	return out
}

// flag returns the boolean under a key, or fallback.
func (r *reader) flag(n node, key string, fallback bool) bool {
	v, ok := n.get(key)
	if !ok {
		return fallback
	}
	if v.form != scalar || v.tag != tagBool {
		r.diags.at(v.place(), CodeValueType, "%s is true or false, not %s", key, kindName(v))
		return fallback
	}
	return strings.EqualFold(v.value, "true")
}

// metadata returns the texts under metadata.
func (r *reader) metadata(n node) map[string]string {
	if _, ok := n.get("metadata"); !ok {
		return nil
	}
	out := map[string]string{}
	for _, p := range r.mapping(n, "metadata") {
		if p.value.form != scalar {
			r.diags.at(p.value.place(), CodeShape, "metadata are texts, not %s", kindName(p.value))
			continue
		}
		out[p.name] = p.value.value
	}
	return out
}

// unsupported reports keynames of the standard that are known here and not yet read.
func (r *reader) unsupported(n node, what string, keys ...string) {
	for _, p := range n.pairs() {
		if slices.Contains(keys, p.name) {
			r.diags.at(p.key.place(), CodeUnsupported, "%s in %s is not read yet", p.name, what).
				hint("remove it; a template that uses it would not do what it says")
		}
	}
}
