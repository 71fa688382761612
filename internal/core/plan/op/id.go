package op

import "strings"

// ID is the id of a step in its parts: of which resource it is, what it does, and what tells it from others that do the same to the
// same resource.
type ID struct {
	Resource string
	Op       Op
	Part     string
}

// String is the id as plans and journals have it: "web-1/create", "web-1/attach:data-1".
func (id ID) String() string {
	text := id.Resource + "/" + string(id.Op)
	if id.Part != "" {
		text += ":" + id.Part
	}
	return text
}

// On is the id of the step that does the operation to a resource.
func (o Op) On(resource string) string { return ID{Resource: resource, Op: o}.String() }

// For is the id of one of several steps that do the operation to a resource.
func (o Op) For(resource, part string) string { return ID{resource, o, part}.String() }

// ParseID takes the id of a step apart. A resource's own id may hold slashes, as that of what belongs to no deployment does; what is
// the id of no step has everything in Resource.
func ParseID(text string) ID {
	for from := 0; ; {
		at := strings.IndexByte(text[from:], '/')
		if at < 0 {
			return ID{Resource: text}
		}
		at += from
		o, part, _ := strings.Cut(text[at+1:], ":")
		if Op(o).Known() {
			return ID{text[:at], Op(o), part}
		}
		from = at + 1
	}
}

// ResourceOf is the resource of a step, by the step's id.
func ResourceOf(id string) string { return ParseID(id).Resource }
