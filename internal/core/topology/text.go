package topology

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"andamio/internal/core/tosca"
)

// text evaluates concat, join and token; if a part waits for the run, so does the whole.
func (b *builder) text(v *tosca.Value, s scope) (any, bool) {
	items := v.Items
	if v.Func == "concat" && len(items) == 1 && items[0].Kind == tosca.List {
		items = items[0].Items
	}
	var args []any
	for _, item := range items {
		x, ok := b.eval(item, s)
		if !ok {
			return nil, false
		}
		args = append(args, x)
	}
	if isDeferred(args) {
		return Deferred{v.Func, args}, true
	}
	switch v.Func {
	case "concat":
		return concat(args), true
	case "join":
		return join(args), true
	}
	return b.token(v, args)
}

func concat(args []any) string {
	var text strings.Builder
	for _, p := range args {
		text.WriteString(tosca.Show(p))
	}
	return text.String()
}

func join(args []any) string {
	list, _ := args[0].([]any)
	parts := make([]string, len(list))
	for i := range list {
		parts[i] = tosca.Show(list[i])
	}
	sep := ""
	if len(args) > 1 {
		sep = tosca.Show(args[1])
	}
	return strings.Join(parts, sep)
}

// token is the part of a text between separators (section 4.3.3).
func (b *builder) token(v *tosca.Value, args []any) (any, bool) {
	i, _ := args[2].(int64)
	part, ok := Token(tosca.Show(args[0]), tosca.Show(args[1]), int(i))
	if !ok {
		index := v.Items[len(v.Items)-1]
		b.mistake(index.Pos(), index.Width(), tosca.CodeFunction, fmt.Sprintf("%q has no part %d between %q", tosca.Show(args[0]), i, tosca.Show(args[1])), "parts count from 0")
	}
	return part, ok
}

// Token is the index-th part of a text, counted from 0, between any of the separating characters.
func Token(text, separators string, index int) (string, bool) {
	parts := splitAny(text, separators)
	if index < 0 || index >= len(parts) {
		return "", false
	}
	return parts[index], true
}

// splitAny splits at every one of the characters, keeping empty parts.
func splitAny(text, separators string) []string {
	if separators == "" {
		return []string{text}
	}
	var out []string
	for {
		i := strings.IndexAny(text, separators)
		if i < 0 {
			return append(out, text)
		}
		out = append(out, text[:i])
		_, size := utf8.DecodeRuneInString(text[i:])
		text = text[i+size:]
	}
}

// nested follows keys into maps and indexes into lists.
func (b *builder) nested(v *tosca.Value, x any, path []string) (any, bool) {
	for i, key := range path {
		switch in := x.(type) {
		case map[string]any:
			x = in[key]
		case []any:
			x = at(in, key)
		case Deferred:
			if in.Func == "get_attribute" { // what is within is known when it is
				args := slices.Clone(in.Args)
				for _, k := range path[i:] {
					args = append(args, k)
				}
				return Deferred{in.Func, args}, true
			}
			x = nil
		default:
			x = nil
		}
		if x == nil {
			word := argument(v, key)
			b.mistake(word.Pos(), word.Width(), tosca.CodeUnknownRef, fmt.Sprintf("there is nothing at %q", key), "")
			return nil, false
		}
	}
	return x, true
}

// argument is where a call says a word: the last of its arguments that is that, or else the call.
func argument(v *tosca.Value, word string) *tosca.Value {
	for _, item := range slices.Backward(v.Items) {
		if item.Kind == tosca.Literal && tosca.Show(item.Plain()) == word {
			return item
		}
	}
	return v
}

func at(list []any, key string) any {
	if i, err := strconv.Atoi(key); err == nil && i >= 0 && i < len(list) {
		return list[i]
	}
	return nil
}

func isDeferred(x any) bool {
	switch x := x.(type) {
	case Deferred:
		return true
	case []any:
		return slices.ContainsFunc(x, isDeferred)
	case map[string]any:
		for _, item := range x {
			if isDeferred(item) {
				return true
			}
		}
	}
	return false
}

func texts(items []*tosca.Value) []string {
	out := make([]string, len(items))
	for i, item := range items {
		out[i] = tosca.Show(item.Plain())
	}
	return out
}
