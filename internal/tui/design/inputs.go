package design

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"andamio/internal/core/tosca"
)

// beginEdit begins to edit the selected input. Secret inputs are never shown nor typed here.
func (v *View) beginEdit() {
	if len(v.template.Inputs) == 0 || v.template.Inputs[v.input].Secret {
		return
	}
	text := v.inputText(v.template.Inputs[v.input])
	v.edit = &text
}

// inputText is the value of an input as it is written: changed by hand, from the preset, or the default.
func (v *View) inputText(in *tosca.Input) string {
	value := in.Default
	if v.preset > 0 && v.preset <= len(v.template.Presets) {
		if p := v.template.Presets[v.preset-1].Inputs[in.Name]; p != nil {
			value = p
		}
	}
	if c := v.changed[in.Name]; c != nil {
		value = c
	}
	if value == nil {
		return ""
	}
	return tosca.Show(value.Plain())
}

// editKey edits the input's text; enter takes it, esc leaves it as it was.
func (v *View) editKey(key string) tea.Cmd {
	text := *v.edit
	switch key {
	case "esc":
		v.edit = nil
	case "enter":
		v.edit = nil
		return v.change(v.template.Inputs[v.input].Name, text)
	case "backspace":
		if r := []rune(text); len(r) > 0 {
			*v.edit = string(r[:len(r)-1])
		}
	case "ctrl+u":
		*v.edit = ""
	case "space":
		*v.edit += " "
	default:
		if len([]rune(key)) == 1 {
			*v.edit += key
		}
	}
	return nil
}

// change sets an input and works everything out anew.
func (v *View) change(name, text string) tea.Cmd {
	changed := tosca.Inputs{}
	for k, x := range v.changed {
		changed[k] = x
	}
	value, _ := tosca.ParseInput(name, text)
	if in := v.template.Input(name); in != nil && in.Type == "string" {
		value = tosca.LiteralOf(text, tosca.Pos{File: "input " + name, Line: 1, Col: 1})
	}
	if value != nil {
		changed[name] = value
	}
	v.changed = changed
	return v.redraft()
}

// rule says in a few words what an input may be.
func rule(in *tosca.Input) string {
	words := []string{strings.TrimPrefix(in.Type, "scalar-unit.")}
	for _, c := range in.Constraints {
		words = append(words, c.String())
	}
	return strings.Join(words, " ")
}

// wrong is what is the matter with an input, "" if nothing is.
func (v *View) wrong(name string) string {
	if v.draft == nil {
		return ""
	}
	for _, d := range v.draft.Diagnostics {
		if strings.HasPrefix(d.Message, name+" ") || strings.HasPrefix(d.Message, name+":") {
			return strings.TrimPrefix(strings.TrimPrefix(d.Message, name), ":")
		}
	}
	return ""
}
