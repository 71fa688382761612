package inventory

import (
	"fmt"
	"strconv"
	"strings"
)

// Relations stand in one column of a table as KIND=ID pairs between spaces; what would be mistaken for one of those
// characters is percent-encoded (RFC 3986, section 2.1).
func writeRelations(all []Relation) string {
	words := make([]string, len(all))
	for i, r := range all {
		words[i] = encode(r.Kind) + "=" + encode(r.To)
	}
	return strings.Join(words, " ")
}

func readRelations(v string) ([]Relation, error) {
	var out []Relation
	for _, word := range strings.Fields(v) {
		kind, to, ok := strings.Cut(word, "=")
		k, okK := decode(kind)
		id, okT := decode(to)
		if !ok || !okK || !okT {
			return nil, fmt.Errorf("%q is no relation as in runs-on=ID", word)
		}
		out = append(out, Relation{k, id})
	}
	return out, nil
}

func encode(s string) string {
	var out strings.Builder
	for i := range len(s) {
		if c := s[i]; c <= ' ' || c == '%' || c == '=' || c >= 0x7f {
			fmt.Fprintf(&out, "%%%02X", c)
		} else {
			out.WriteByte(c)
		}
	}
	return out.String()
}

func decode(s string) (string, bool) {
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			out.WriteByte(s[i])
			continue
		}
		if i+2 >= len(s) {
			return "", false
		}
		c, err := strconv.ParseUint(s[i+1:i+3], 16, 8)
		if err != nil {
			return "", false
		}
		out.WriteByte(byte(c))
		i += 2
	}
	return out.String(), true
}
