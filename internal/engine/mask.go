package engine

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"andamio/internal/core/printable"
	"andamio/internal/remote"
)

// masker takes secrets and control sequences out of text before it is journalled, in every form that a secret may take on
// its way: as it is, as it is sent to a shell, and as programs commonly write it.
type masker struct{ replace *strings.Replacer }

// hidden stands where a secret stood.
const hidden = "•••"

// leastSecret is the length below which a value is too common to be masked.
const leastSecret = 4

func newMasker(secrets map[string]string) masker {
	forms := map[string]bool{}
	for _, v := range secrets {
		for _, form := range append(strings.Split(v, "\n"), formsOf(v)...) { // logs are masked line by line
			if form = strings.TrimSpace(form); len(form) >= leastSecret {
				forms[form] = true
				forms[strings.TrimSpace(printable.Clean(form))] = true // as it is told
			}
		}
	}
	delete(forms, "")
	values := make([]string, 0, len(forms))
	for v := range forms {
		if len(v) >= leastSecret {
			values = append(values, v)
		}
	}
	// The longer first: one may contain another.
	slices.SortFunc(values, func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	})
	var pairs []string
	for _, v := range values {
		pairs = append(pairs, v, hidden)
	}
	return masker{strings.NewReplacer(pairs...)}
}

// formsOf are the ways in which a value is commonly written.
func formsOf(v string) []string {
	if len(strings.TrimSpace(v)) < leastSecret {
		return nil
	}
	text, _ := json.Marshal(v)
	var plain strings.Builder
	e := json.NewEncoder(&plain)
	e.SetEscapeHTML(false)
	_ = e.Encode(v)
	quoted := remote.Quote(v)
	exported := strings.TrimPrefix(remote.Export("V", v), "export V=")
	out := []string{quoted, quoted[1 : len(quoted)-1], strings.ReplaceAll(v, "'", `'\''`), strings.TrimSpace(exported),
		string(text[1 : len(text)-1]), strings.Trim(strings.TrimSpace(plain.String()), `"`),
		url.QueryEscape(v), url.PathEscape(v), strings.ReplaceAll(url.QueryEscape(v), "+", "%20"),
		hex.EncodeToString([]byte(v)), strings.ToUpper(hex.EncodeToString([]byte(v))), strings.Trim(strconv.Quote(v), `"`)}
	for _, lines := range [][]string{strings.Split(quoted, "\n"), strings.Split(exported, "\n")} {
		out = append(out, lines...) // a shell that repeats what it reads does so line by line
	}
	return append(out, in64(v)...)
}

// in64 are the characters that a value always becomes in base64 (RFC 4648, sections 4 and 5), wherever it begins in what is
// encoded: those of which no bit is its neighbours'.
func in64(v string) []string {
	var out []string
	for before := range 3 {
		text := strings.Repeat("\x00", before) + v
		bits := len(text) * 8
		first, last := (before*8+5)/6, bits/6
		if last-first < leastSecret {
			continue
		}
		for _, e := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			out = append(out, e.EncodeToString([]byte(text))[first:last])
		}
	}
	return out
}

// clean is the text without secrets and control sequences. Secrets are looked for again after control sequences are
// gone, lest one hides in the midst of a secret.
func (m masker) clean(text string) string {
	return m.replace.Replace(printable.Clean(m.replace.Replace(text)))
}
