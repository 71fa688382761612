package tosca

import "strings"

// Inputs are values for a template's inputs, each with the place it came from.
type Inputs map[string]*Value

// ReadInputs reads a preset: a YAML mapping from names of inputs to values.
func ReadInputs(file string, data []byte) (Inputs, Diagnostics) {
	r := &reader{}
	out := Inputs{}
	doc := &document{file: file}
	if strings.TrimSpace(string(data)) == "" {
		return out, nil
	}
	if doc.parse(data, &r.diags) {
		for _, p := range doc.root.pairs() {
			out[p.name] = r.value(p.value)
			out[p.name].at = valuePlace(p)
		}
	}
	return out, r.diags
}

// ParseInput reads a value given as text, as on a command line, the way YAML reads it.
func ParseInput(name, text string) (*Value, Diagnostics) {
	in, diags := ReadInputs("--input "+name, []byte("value: "+text))
	return in["value"], diags
}

// Apply checks given values against the template's declared inputs and fills in defaults. The result holds every
// declared input that has a value, as Go values; unknown, ill-typed and missing ones are diagnostics.
func (t *Template) Apply(given Inputs) (map[string]any, Diagnostics) {
	var diags Diagnostics
	out := map[string]any{}
	names := make([]string, len(t.Inputs))
	for i, in := range t.Inputs {
		names[i] = in.Name
	}
	for _, name := range sortedKeys(given) {
		if t.Input(name) == nil {
			diags.at(given[name].at, CodeUnknownInput, "the template has no input %q", name).suggest(name, names)
		}
	}
	for _, in := range t.Inputs {
		v := given[in.Name]
		if v == nil {
			v = in.Default
		}
		if v == nil {
			if in.Required && !in.Secret {
				diags.at(place{in.Property.Pos, len(in.Name)}, CodeMissingInput, "the input %q has no value", in.Name).
					hint("give it in a preset, or with --input %s=…", in.Name)
			}
			continue
		}
		if x, ok := t.Types.Coerce(v, in.Property, &diags); ok {
			out[in.Name] = x
		}
	}
	diags.sort()
	return out, diags
}

// CheckInput says what is wrong with a value for one input.
func (t *Template) CheckInput(in *Input, v *Value) Diagnostics {
	var diags Diagnostics
	if v != nil {
		t.Types.Coerce(v, in.Property, &diags)
	}
	return diags
}
