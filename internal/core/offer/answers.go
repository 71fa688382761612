package offer

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/tosca"
)

// Answers are given to questions, by input, as text.
type Answers map[string]string

// CheckAgainst says what of an offer does not fit its template, all of it.
func (o *Offer) CheckAgainst(t *tosca.Template) error {
	return collected(func(wrong wronged) {
		o.checkInputs(t, "inputs", o.Inputs, wrong)
		for i, v := range o.Variants {
			o.checkInputs(t, fmt.Sprintf("variants[%d].inputs", i), v.Inputs, wrong)
		}
		asked := map[string]bool{}
		for i := range o.Questions {
			q, at := &o.Questions[i], fmt.Sprintf("questions[%d]", i)
			in := t.Input(q.Input)
			_, fixed := o.Inputs[q.Input]
			switch {
			case in == nil:
				wrong(at+".input", "the template has no input %q; it has %s", q.Input, strings.Join(inputNames(t), ", "))
				continue
			case in.Secret:
				wrong(at+".input", "%s is secret: it is kept in the workspace, and nobody is asked for it", q.Input)
			case fixed:
				wrong(at+".input", "%s is fixed, so it cannot be asked for", q.Input)
			case asked[q.Input]:
				wrong(at+".input", "%s is asked for twice", q.Input)
			}
			asked[q.Input] = true
			o.checkAnswers(t, in, q, at, wrong)
		}
	})
}

// Unanswered are inputs that have no value whatever is answered: neither fixed, asked for, kept as a secret, in the preset nor with a
// default.
func (o *Offer) Unanswered(t *tosca.Template, preset tosca.Inputs) []string {
	var out []string
	for _, in := range t.Inputs {
		_, fixed := o.Inputs[in.Name]
		if !fixed && !in.Secret && in.Required && in.Default == nil && preset[in.Name] == nil && o.question(in.Name) == nil {
			out = append(out, in.Name)
		}
	}
	return out
}

func (o *Offer) question(input string) *Question {
	i := slices.IndexFunc(o.Questions, func(q Question) bool { return q.Input == input })
	if i < 0 {
		return nil
	}
	return &o.Questions[i]
}

func inputNames(t *tosca.Template) []string {
	out := make([]string, len(t.Inputs))
	for i, in := range t.Inputs {
		out[i] = in.Name
	}
	return out
}

func (o *Offer) checkInputs(t *tosca.Template, at string, all map[string]any, wrong wronged) {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		in := t.Input(name)
		switch {
		case in == nil:
			wrong(at, "the template has no input %q; it has %s", name, strings.Join(inputNames(t), ", "))
		case in.Secret:
			wrong(at+"."+name, "it is secret: keep it with andamio credentials, not in an offer")
		default:
			if why := refused(t, in, all[name]); why != "" {
				wrong(at+"."+name, "%s", why)
			}
		}
	}
}

// refused says why the template does not take a value; "" if it does.
func refused(t *tosca.Template, in *tosca.Input, value any) string {
	v, diags := valueOf(in.Name, value)
	if diags.Errors() == 0 {
		diags = t.CheckInput(in, v)
	}
	if diags.Errors() == 0 {
		return ""
	}
	return diags[0].Message
}

// valueOf is a value of a file as one of a template: JSON is YAML.
func valueOf(name string, value any) (*tosca.Value, tosca.Diagnostics) {
	text, err := json.Marshal(value)
	if err != nil {
		return nil, tosca.Diagnostics{{Message: err.Error(), Severity: tosca.Mistake}}
	}
	return tosca.ParseInput(name, string(text))
}

func (o *Offer) checkAnswers(t *tosca.Template, in *tosca.Input, q *Question, at string, wrong wronged) {
	for k, c := range q.Choices {
		if why := refused(t, in, c.Value); why != "" {
			wrong(fmt.Sprintf("%s.choices[%d]", at, k), "%s", why)
		}
	}
	if q.From != nil && q.To != nil {
		for _, end := range []float64{*q.From, *q.To} {
			if why := refused(t, in, end); why != "" {
				wrong(at, "its range ends at %v: %s", end, why)
			}
		}
	}
	if q.Default == nil {
		return
	}
	if _, why := q.answer(t, Written(q.Default)); why != "" {
		wrong(at+".default", "%s", why)
	}
}

// Written is a value as somebody writes it down as an answer.
func Written(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case nil:
		return ""
	}
	text, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(text)
}

// answer is what a text answers, or why it is no answer.
func (q *Question) answer(t *tosca.Template, text string) (*tosca.Value, string) {
	text = strings.TrimSpace(text)
	if len(q.Choices) > 0 {
		for _, c := range q.Choices {
			if Written(c.Value) == text || c.Title != "" && strings.EqualFold(c.Title, text) {
				v, _ := valueOf(q.Input, c.Value)
				return v, ""
			}
		}
		return nil, fmt.Sprintf("%q is none of %s", text, q.Says())
	}
	if q.From != nil && q.To != nil {
		n, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsNaN(n) {
			return nil, fmt.Sprintf("%q is no number; it goes %s", text, q.Says())
		}
		if n < *q.From || n > *q.To || !q.onStep(n) {
			return nil, fmt.Sprintf("%s is not offered; it goes %s", text, q.Says())
		}
	}
	in := t.Input(q.Input)
	v, diags := tosca.ParseInput(q.Input, text)
	if in.Type == "string" {
		v, diags = valueOf(q.Input, text)
	}
	if diags.Errors() == 0 && v != nil {
		diags = t.CheckInput(in, v)
	}
	if diags.Errors() > 0 {
		return nil, diags[0].Message
	}
	if v == nil {
		return nil, "it is empty"
	}
	return v, ""
}

func (q *Question) step() float64 {
	if q.Step > 0 {
		return q.Step
	}
	return 1
}

// onStep reports that a number is one of the range's.
func (q *Question) onStep(n float64) bool {
	steps := (n - *q.From) / q.step()
	return math.Abs(steps-math.Round(steps)) < 1e-9
}

// Says says which answers there are; "" where the template alone bounds them.
func (q *Question) Says() string {
	switch {
	case len(q.Choices) > 0:
		out := make([]string, len(q.Choices))
		for i, c := range q.Choices {
			out[i] = Written(c.Value)
			if c.Title != "" {
				out[i] += " (" + c.Title + ")"
			}
		}
		return strings.Join(out, ", ")
	case q.From != nil && q.To != nil:
		text := fmt.Sprintf("from %s to %s", Written(*q.From), Written(*q.To))
		if q.step() != 1 {
			text += " in steps of " + Written(q.step())
		}
		return text
	}
	return ""
}

// Wrong is an answer that is none.
type Wrong struct {
	Input string `json:"input"`
	Ask   string `json:"ask"`
	Why   string `json:"why"`
}

// InputsOf are the inputs of the template that answers give, at the sites of a variant (nil is none of them), with what is wrong with the
// answers. What is not answered has its default.
func (o *Offer) InputsOf(t *tosca.Template, given Answers, at *Variant) (tosca.Inputs, []Wrong) {
	out := tosca.Inputs{}
	put := func(all map[string]any) {
		for name, value := range all {
			if v, diags := valueOf(name, value); diags.Errors() == 0 {
				out[name] = v
			}
		}
	}
	put(o.Inputs)
	var wrong []Wrong
	for i := range o.Questions {
		q := &o.Questions[i]
		text, answered := given[q.Input]
		if !answered || strings.TrimSpace(text) == "" {
			if q.Default == nil {
				if in := t.Input(q.Input); in.Required && in.Default == nil {
					wrong = append(wrong, Wrong{q.Input, q.Ask, "it has to be answered"})
				}
				continue
			}
			text = Written(q.Default)
		}
		v, why := q.answer(t, text)
		if why != "" {
			wrong = append(wrong, Wrong{q.Input, q.Ask, why})
			continue
		}
		out[q.Input] = v
	}
	for _, name := range slices.Sorted(maps.Keys(given)) {
		if name != LevelInput && o.question(name) == nil {
			wrong = append(wrong, Wrong{name, "", "nobody asked that"})
		}
	}
	wrong = append(wrong, o.wrongLevel(given)...)
	if at != nil {
		put(at.Inputs)
	}
	return out, wrong
}
