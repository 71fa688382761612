package wire

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Media types of the text renderings (GFD.229): attributes and categories in lines of the body, in header fields, and locations alone.
const (
	TextPlain = "text/plain"
	TextOCCI  = "text/occi"
	URIList   = "text/uri-list"
)

// The fields of the text renderings (GFD.229, section 5).
const (
	FieldCategory  = "Category"
	FieldAttribute = "X-OCCI-Attribute"
	FieldLocation  = "X-OCCI-Location"
	FieldLink      = "Link"
)

// Attributes of the core model (GFD.221, section 4.5), which the JSON rendering has as members.
const (
	coreID     = "occi.core.id"
	coreTitle  = "occi.core.title"
	coreSource = "occi.core.source"
	coreTarget = "occi.core.target"
)

// Field is one field of a text rendering.
type Field struct{ Name, Value string }

// Parted is a category by its scheme, with the sign that ends it, and its term.
func Parted(category string) (scheme, term string) {
	i := strings.LastIndexByte(category, '#')
	return category[:i+1], category[i+1:]
}

func categoryField(category, class string) Field {
	scheme, term := Parted(category)
	return Field{FieldCategory, fmt.Sprintf(`%s; scheme="%s"; class="%s"`, term, scheme, class)}
}

// Fields are a resource or link in the text renderings.
func (r *Resource) Fields() []Field {
	out := []Field{categoryField(r.Kind, "kind")}
	for _, m := range r.Mixins {
		out = append(out, categoryField(m, "mixin"))
	}
	attribute := func(name string, v any) {
		out = append(out, Field{FieldAttribute, name + "=" + textOf(v)})
	}
	if r.ID != "" {
		attribute(coreID, r.ID)
	}
	if r.Title != "" {
		attribute(coreTitle, r.Title)
	}
	if r.Source != nil {
		attribute(coreSource, r.Source.Location)
	}
	if r.Target != nil {
		attribute(coreTarget, r.Target.Location)
	}
	for _, name := range slices.Sorted(maps.Keys(r.Attributes)) {
		attribute(name, r.Attributes[name])
	}
	return out
}

// Fields are a category of the query interface; class is kind, mixin or action.
func (c *Category) Fields(class string) []Field {
	text := fmt.Sprintf(`%s; scheme="%s"; class="%s"`, c.Term, c.Scheme, class)
	add := func(name, v string) {
		if v != "" {
			text += fmt.Sprintf(`; %s="%s"`, name, v)
		}
	}
	add("title", c.Title)
	add("rel", strings.Join(append(slices.DeleteFunc([]string{c.Parent}, func(s string) bool { return s == "" }), c.Depends...), " "))
	add("location", c.Location)
	add("attributes", strings.Join(slices.Sorted(maps.Keys(c.Attributes)), " "))
	add("actions", strings.Join(c.Actions, " "))
	return []Field{{FieldCategory, text}}
}

// textOf is a value as text renderings have it: numbers and booleans as they are, all else in quotes.
func textOf(v any) string {
	switch x := v.(type) {
	case float64:
		return strconv.FormatFloat(x, 'f', -1, 64)
	case bool, int, int64:
		return fmt.Sprint(x)
	case string:
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", "").Replace(x) + `"`
	}
	data, _ := json.Marshal(v) // of what came from JSON
	return textOf(string(data))
}

// ReadFields reads a resource, link or action from fields of a text rendering. The kind of an action is its category.
func ReadFields(all []Field) (Resource, error) {
	r := Resource{Attributes: map[string]any{}}
	for _, f := range all {
		switch {
		case strings.EqualFold(f.Name, FieldCategory):
			category, class, err := readCategory(f.Value)
			if err != nil {
				return r, err
			}
			if class == "mixin" {
				r.Mixins = append(r.Mixins, category)
				continue
			}
			if r.Kind != "" {
				return r, fmt.Errorf("it is both a %s and a %s", r.Kind, category)
			}
			r.Kind = category
		case strings.EqualFold(f.Name, FieldAttribute):
			name, value, err := readAttribute(f.Value)
			if err != nil {
				return r, err
			}
			r.set(name, value)
		}
	}
	return r, nil
}

// set sets an attribute, of which those of the core are members.
func (r *Resource) set(name string, v any) {
	text, _ := v.(string)
	switch name {
	case coreID:
		r.ID = text
	case coreTitle:
		r.Title = text
	case coreSource:
		r.Source = &End{Location: text}
	case coreTarget:
		r.Target = &End{Location: text}
	default:
		r.Attributes[name] = v
	}
}

// readCategory reads TERM; scheme="…"; class="…" and whatever more it says.
func readCategory(text string) (category, class string, err error) {
	parts := strings.Split(text, ";")
	term, scheme := strings.TrimSpace(parts[0]), ""
	for _, p := range parts[1:] {
		name, value, _ := strings.Cut(strings.TrimSpace(p), "=")
		switch value = strings.Trim(value, `"'`); name {
		case "scheme":
			scheme = value
		case "class":
			class = value
		}
	}
	if term == "" || !strings.HasSuffix(scheme, "#") {
		return "", "", fmt.Errorf("%q is no category: TERM; scheme=\"…#\"; class=\"…\"", text)
	}
	return scheme + term, class, nil
}

// readAttribute reads NAME=VALUE, where texts are in quotes.
func readAttribute(text string) (string, any, error) {
	name, value, ok := strings.Cut(text, "=")
	name, value = strings.TrimSpace(name), strings.TrimSpace(value)
	if !ok || name == "" {
		return "", nil, fmt.Errorf("%q is no attribute: NAME=VALUE", text)
	}
	if strings.HasPrefix(value, `"`) {
		out, err := strconv.Unquote(value)
		if err != nil {
			return "", nil, fmt.Errorf("%q is no text in quotes", value)
		}
		return name, out, nil
	}
	switch value {
	case "true", "false":
		return name, value == "true", nil
	}
	if n, err := strconv.ParseFloat(value, 64); err == nil {
		return name, n, nil
	}
	return "", nil, fmt.Errorf("%s is %s, which is no number, boolean, or text in quotes", name, value)
}

// ReadLines reads the fields of a text/plain body.
func ReadLines(text string) ([]Field, error) {
	var out []Field
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\r\n")
		if strings.TrimSpace(line) == "" {
			continue
		}
		name, value, ok := strings.Cut(line, ":")
		if !ok {
			return nil, fmt.Errorf("%q is no field: NAME: VALUE", line)
		}
		out = append(out, Field{strings.TrimSpace(name), strings.TrimSpace(value)})
	}
	return out, nil
}

// SplitFields are the values of a header field that has several, which commas part outside of quotes.
func SplitFields(text string) []string {
	var out []string
	from, quoted := 0, false
	for i := range len(text) {
		switch {
		case text[i] == '"' && (i == 0 || text[i-1] != '\\'):
			quoted = !quoted
		case text[i] == ',' && !quoted:
			out = append(out, strings.TrimSpace(text[from:i]))
			from = i + 1
		}
	}
	return append(out, strings.TrimSpace(text[from:]))
}
