package offer

import (
	"bytes"
	"cmp"
	"errors"
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"andamio/internal/core/tosca"
)

// Making is what an offer is made of.
type Making struct {
	Name     string
	Template *tosca.Template
	// Place is where the template is opened, from the folder of the offer's file.
	Place  string
	Preset string
	// Given are the inputs as they are: of the preset, and over it those that were changed.
	Given, Changed tosca.Inputs
	// For is who may ask for it at first.
	For []string
}

// Make makes an offer of a template that works, as a beginning: what was changed is fixed, what the template bounds or has no value for is asked,
// and the rest is as the template or the preset has it.
func Make(m Making) *Offer {
	o := &Offer{Version: Version, Name: m.Name, Title: words(m.Name), Note: m.Template.Description, Template: m.Place, Preset: m.Preset, Audience: m.For, Naming: usualNaming}
	for _, name := range slices.Sorted(maps.Keys(m.Changed)) {
		if in := m.Template.Input(name); in != nil && in.Secret {
			continue // it is kept in the workspace
		}
		if o.Inputs == nil {
			o.Inputs = map[string]any{}
		}
		o.Inputs[name] = m.Changed[name].Plain() // what the template does not have is said when the offer is checked
	}
	for _, in := range m.Template.Inputs {
		if _, fixed := o.Inputs[in.Name]; fixed || in.Secret {
			continue
		}
		if q, asked := question(in, m.Given[in.Name]); asked {
			o.Questions = append(o.Questions, q)
		}
	}
	return o
}

// mostChosen is up to how many steps a range is one that somebody chooses from, as a port's is not.
const mostChosen = 100

// question asks for an input whose answers are few, or that has no value; false for one that is as well left alone.
func question(in *tosca.Input, given *tosca.Value) (Question, bool) {
	text := cmp.Or(in.Description, in.Name)
	short, _, cut := strings.Cut(strings.NewReplacer(",", ";", ":", ";", "(", ";").Replace(text), ";")
	q := Question{Input: in.Name, Ask: words(short) + "?"}
	if cut {
		q.Help = words(text) + "."
	}
	if given == nil {
		given = in.Default
	}
	if given != nil && given.Kind == tosca.Literal {
		q.Default = given.Plain()
	}
	for _, c := range in.Constraints {
		switch c.Op {
		case "valid_values":
			for _, v := range c.Args {
				q.Choices = append(q.Choices, Choice{Value: v.Plain()})
			}
		case "in_range":
			q.From, q.To = number(c.Args[0]), number(c.Args[len(c.Args)-1])
		}
	}
	if q.From == nil || q.To == nil || *q.To-*q.From > mostChosen {
		q.From, q.To = nil, nil
	}
	bounded := len(q.Choices) > 0 || q.From != nil
	q.More = !bounded
	return q, bounded || in.Required && given == nil
}

// number is a value as a number; nil if it is none, as a size is, or no bound.
func number(v *tosca.Value) *float64 {
	var out float64
	switch n := v.Plain().(type) {
	case int64:
		out = float64(n)
	case float64:
		out = n
	default:
		return nil
	}
	return &out
}

// words are a name, or the beginning of a text, as the words of a question.
func words(text string) string {
	text = strings.TrimRight(strings.ReplaceAll(strings.ReplaceAll(strings.TrimSpace(text), "-", " "), "_", " "), ".?!")
	first, n := utf8.DecodeRuneInString(text)
	return string(unicode.ToUpper(first)) + text[n:]
}

// File is an offer as its file has it, in the order in which one reads it.
func (o *Offer) File() ([]byte, error) {
	var buf bytes.Buffer
	for _, part := range []struct {
		key   string
		value any
		empty bool
	}{
		{"version", o.Version, false}, {"offer", o.Name, false}, {"title", o.Title, false}, {"category", o.Category, o.Category == ""}, {"note", o.Note, o.Note == ""},
		{"template", o.Template, false}, {"preset", o.Preset, o.Preset == ""}, {"audience", o.Audience, len(o.Audience) == 0}, {"sites", o.Sites, len(o.Sites) == 0},
		{"name", o.Naming, o.Naming == ""}, {"inputs", o.Inputs, len(o.Inputs) == 0}, {"questions", asked(o.Questions), len(o.Questions) == 0},
	} {
		if part.empty {
			continue
		}
		enc := yaml.NewEncoder(&buf)
		enc.SetIndent(2)
		if err := errors.Join(enc.Encode(map[string]any{part.key: part.value}), enc.Close()); err != nil {
			return nil, err
		}
	}
	return buf.Bytes(), nil
}

// asked are questions as their file has them.
func asked(all []Question) []map[string]any {
	var out []map[string]any
	for i := range all {
		q := &all[i]
		m := map[string]any{"input": q.Input, "ask": q.Ask}
		if q.Help != "" {
			m["help"] = q.Help
		}
		if q.Default != nil {
			m["default"] = q.Default
		}
		if q.From != nil {
			m["from"], m["to"] = *q.From, *q.To
		}
		if q.More {
			m["more"] = true
		}
		var choices []map[string]any
		for _, c := range q.Choices {
			choices = append(choices, map[string]any{"value": c.Value})
		}
		if choices != nil {
			m["choices"] = choices
		}
		out = append(out, m)
	}
	return out
}
