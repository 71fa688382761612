package inventory

import (
	"bytes"
	"fmt"
	"hash/maphash"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"andamio/internal/core/kinds"
	"andamio/internal/core/printable"
)

// Table is a source in the form of comma-separated values (RFC 4180) with a header, of which only the places of the
// lines and two numbers a line are kept beside the text.
type Table struct {
	data    []byte
	columns []string
	at      []int64 // where each row begins; one more for the end
	keys    []Keys
	digests []uint64
	// places of the columns that make keys, -1 where there is none
	site, provider, mark, serial int
	seeds                        []uint64 // 0 for columns that are not compared
	sets                         []func(r *Record, v string) error
}

var _ Source = (*Table)(nil)

// ReadTable reads a table; the data must not change afterwards. Errors name the line.
func ReadTable(data []byte) (*Table, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	t := &Table{data: data}
	t.cut()
	if len(t.at) < 2 {
		return nil, fmt.Errorf("line 1: there is no header; the first line names the columns, such as %s,%s,name,%s", columnID, columnClass, columnSite)
	}
	if err := t.header(); err != nil {
		return nil, err
	}
	t.at = t.at[1:]
	return t, t.measure()
}

// cut finds where rows begin: after a line break outside quotes. Empty lines are no rows.
func (t *Table) cut() {
	t.at = make([]int64, 0, len(t.data)/256+2)
	start, open := 0, false
	for i := 0; i < len(t.data); {
		n := bytes.IndexByte(t.data[i:], '\n')
		end := len(t.data)
		if n >= 0 {
			end = i + n + 1
		}
		if bytes.Count(t.data[i:end], quote)%2 == 1 {
			open = !open
		}
		if !open || end == len(t.data) {
			if row := t.data[start:end]; len(row) > 2 || len(bytes.TrimRight(row, "\r\n")) > 0 {
				t.at = append(t.at, int64(start))
			}
			start = end
		}
		i = end
	}
	t.at = append(t.at, int64(len(t.data)))
}

var quote = []byte{'"'}

func (t *Table) header() error {
	seen := map[string]bool{}
	t.site, t.provider, t.mark, t.serial = -1, -1, -1, -1
	places := map[string]*int{columnSite: &t.site, columnProvider: &t.provider, columnMark: &t.mark, columnSerial: &t.serial}
	err := eachField(t.row(0), func(i int, v []byte) {
		name := strings.TrimSpace(string(v))
		t.columns, t.sets = append(t.columns, name), append(t.sets, setters[name])
		if p := places[name]; p != nil {
			*p = i
		}
		var h uint64
		if setters[name] == nil || compared[name] {
			h = hashText(name)
		}
		t.seeds = append(t.seeds, h)
	})
	if err != nil {
		return fmt.Errorf("line 1: %w", err)
	}
	for _, c := range t.columns {
		if c == "" || seen[c] {
			return fmt.Errorf("line 1: the column %q is named twice or has no name", c)
		}
		seen[c] = true
	}
	for _, c := range []string{columnID, columnClass} {
		if !seen[c] {
			return fmt.Errorf("line 1: there is no column %q; the header has %s", c, few(t.columns))
		}
	}
	return nil
}

// few are the first names of a list, shortened: a file that is no table may have anything for a header.
func few(names []string) string {
	const most, long = 8, 24
	var out []string
	for i, n := range names {
		if i == most {
			out = append(out, fmt.Sprintf("and %d more", len(names)-most))
			break
		}
		if r := []rune(strings.ToValidUTF8(n, "?")); len(r) > long {
			n = string(r[:long]) + "…"
		}
		out = append(out, strings.ToValidUTF8(n, "?"))
	}
	return strings.Join(out, ", ")
}

// row is the text of one row without its line break, counted from the header.
func (t *Table) row(i int) []byte {
	row := t.data[t.at[i]:t.at[i+1]]
	row = bytes.TrimSuffix(row, []byte{'\n'})
	return bytes.TrimSuffix(row, []byte{'\r'})
}

// measure works out keys and digests of all rows, on all cores.
func (t *Table) measure() error {
	n := t.Len()
	t.keys, t.digests = make([]Keys, n), make([]uint64, n)
	workers := runtime.GOMAXPROCS(0)
	errs := make([]error, workers)
	var group sync.WaitGroup
	for w := range workers {
		group.Go(func() {
			for i := n * w / workers; i < n*(w+1)/workers && errs[w] == nil; i++ {
				if err := t.measureRow(i); err != nil {
					errs[w] = fmt.Errorf("line %d: %w", t.line(i), err)
				}
			}
		})
	}
	group.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// line is the number of a row's first line in the file.
func (t *Table) line(i int) int { return 1 + bytes.Count(t.data[:t.at[i]], []byte{'\n'}) }

func (t *Table) measureRow(i int) error {
	var sum, site, provider uint64
	var k Keys
	fields := 0
	err := eachField(t.row(i), func(c int, v []byte) {
		fields++
		if c >= len(t.seeds) || len(v) == 0 || t.seeds[c] == 0 && c != t.site {
			return
		}
		h := maphash.Bytes(seed, v)
		if t.seeds[c] != 0 {
			sum += part(t.seeds[c], h)
		}
		switch c {
		case t.site:
			site = h
		case t.provider:
			provider = h
		case t.mark:
			k[byMark] = key(byMark, h)
		case t.serial:
			k[bySerial] = key(bySerial, h)
		}
	})
	if err == nil && fields != len(t.columns) {
		err = fmt.Errorf("there are %d values for %d columns", fields, len(t.columns))
	}
	if provider != 0 {
		if site == 0 {
			site = hashText("")
		}
		k[byProvider] = key(byProvider, mix(site, provider))
	}
	t.keys[i], t.digests[i] = k, sum
	return err
}

// eachField gives the values of a row in order. A value is valid only until the next.
func eachField(row []byte, use func(i int, v []byte)) error {
	for i := 0; ; i++ {
		if len(row) > 0 && row[0] == '"' {
			v, rest, err := quoted(row[1:])
			if err != nil {
				return err
			}
			use(i, bare(v))
			if len(rest) == 0 {
				return nil
			}
			row = rest[1:]
			continue
		}
		n := bytes.IndexByte(row, ',')
		if n < 0 {
			use(i, bare(row))
			return nil
		}
		use(i, bare(row[:n]))
		row = row[n+1:]
	}
}

// quoted reads a value after its opening quote; two quotes stand for one.
func quoted(row []byte) (v, rest []byte, err error) {
	for from := 0; ; {
		n := bytes.IndexByte(row[from:], '"')
		if n < 0 {
			return nil, nil, fmt.Errorf("a quote is opened and not closed")
		}
		n += from
		if n+1 < len(row) && row[n+1] == '"' {
			from = n + 2
			continue
		}
		if rest = row[n+1:]; len(rest) > 0 && rest[0] != ',' {
			return nil, nil, fmt.Errorf("there is text after a closing quote")
		}
		return bytes.ReplaceAll(row[:n], []byte(`""`), quote), rest, nil
	}
}

// Len is the number of rows.
func (t *Table) Len() int { return len(t.at) - 1 }

// Keys are the sure keys of a row.
func (t *Table) Keys(i int) Keys { return t.keys[i] }

// Digest sums up what can be compared.
func (t *Table) Digest(i int) uint64 { return t.digests[i] }

// Record makes the record of a row. What cannot be read of it is left out; [Table.All] says what that is.
func (t *Table) Record(i int) Record {
	r, _ := t.record(i)
	return r
}

func (t *Table) record(i int) (Record, error) {
	r := Record{Attributes: make(map[string]string, len(t.columns)-3)}
	row := t.row(i)
	text := string(row) // one string for all values of the row
	var wrong error
	_ = eachField(row, func(c int, v []byte) { // rows were read once already
		if len(v) == 0 || c >= len(t.columns) {
			return
		}
		value, name := textOf(row, v, text), t.columns[c]
		if set := t.sets[c]; set != nil {
			if err := set(&r, value); err != nil && wrong == nil {
				wrong = fmt.Errorf("line %d, column %s: %w", t.line(i), name, err)
			}
			return
		}
		r.Attributes[name] = value
	})
	return r, wrong
}

// textOf is a value as text: the part of the row's text where it lies within the row, a text of its own where quotes
// were taken out of it.
func textOf(row, v []byte, text string) string {
	if from := cap(row) - cap(v); from >= 0 && from+len(v) <= len(row) && &row[from] == &v[0] {
		return text[from : from+len(v)]
	}
	return string(v)
}

// All makes all records, and says what is wrong with the first that cannot be read: an id or class missing or twice, a
// time or relation that is none.
func (t *Table) All() (Records, error) {
	out := make(Records, 0, t.Len())
	seen := map[string]bool{}
	for i := range t.Len() {
		r, err := t.record(i)
		if err == nil {
			err = checkRecord(&r, seen)
			if err != nil {
				err = fmt.Errorf("line %d: %w", t.line(i), err)
			}
		}
		if err != nil {
			return nil, err
		}
		out = append(out, r.Normal())
	}
	return out, nil
}

func checkRecord(r *Record, seen map[string]bool) error {
	switch {
	case r.ID == "":
		return fmt.Errorf("the record has no id")
	case seen[r.ID]:
		return fmt.Errorf("the id %q is there twice", r.ID)
	case r.Class == "":
		return fmt.Errorf("%s has no class; there are %s", r.ID, joined(Classes))
	}
	for k := range r.Attributes {
		if setters[k] != nil {
			return fmt.Errorf("%s: an attribute cannot be called %q", r.ID, k)
		}
	}
	seen[r.ID] = true
	return nil
}

func joined(classes []kinds.Kind) string {
	words := make([]string, len(classes))
	for i, c := range classes {
		words[i] = string(c)
	}
	return strings.Join(words, ", ")
}

// WriteTable writes records as comma-separated values with a header: the fixed columns, then every attribute that any
// of them has, in order. Reading that gives the same records.
func WriteTable(records Records) []byte {
	attributes := map[string]bool{}
	for i := range records {
		for k := range records[i].Attributes {
			attributes[k] = true
		}
	}
	columns := slices.Clone(fixed)
	var more []string
	for k := range attributes {
		more = append(more, k)
	}
	slices.Sort(more)
	columns = append(columns, more...)
	var out bytes.Buffer
	writeRow(&out, columns)
	row := make([]string, len(columns))
	for i := range records {
		r := records[i].Normal()
		copy(row, []string{r.ID, string(r.Class), r.Name, r.Site, r.Region, r.Provider, r.Mark, r.Serial, writeTime(r.Seen),
			r.Origin.Account, r.Origin.Deployment, r.Origin.Template, r.Origin.Who, writeTime(r.Origin.When), writeRelations(r.Relations)})
		for k, name := range more {
			row[len(fixed)+k] = r.Attributes[name]
		}
		writeRow(&out, row)
	}
	return out.Bytes()
}

// Programs that show tables reckon with what begins like a formula, which may ask others for something or start programs.
// Such a value is written after an apostrophe, as people do who mean the text; reading takes it away again. A number is
// one, whatever its sign.
const apostrophe = '\''

// formula reports that a value that begins so, or with an apostrophe before it, is written after one.
func formula(first byte) bool { return strings.IndexByte("=+-@\t|'", first) >= 0 }

// guarded is a value as it is written: without characters that print nothing, and as no formula.
func guarded(v string) string {
	v = printable.Lines(v)
	if v == "" || !formula(v[0]) {
		return v
	}
	if _, err := strconv.ParseFloat(v, 64); err == nil {
		return v
	}
	return string(apostrophe) + v
}

// bare is a value as it was before it was written.
func bare(v []byte) []byte {
	if len(v) > 1 && v[0] == apostrophe && formula(v[1]) {
		return v[1:]
	}
	return v
}

func writeRow(out *bytes.Buffer, row []string) {
	for i, v := range row {
		v = guarded(v)
		if i > 0 {
			out.WriteByte(',')
		}
		if strings.ContainsAny(v, ",\"\r\n") || strings.HasPrefix(v, " ") {
			out.WriteByte('"')
			out.WriteString(strings.ReplaceAll(v, `"`, `""`))
			out.WriteByte('"')
		} else {
			out.WriteString(v)
		}
	}
	out.WriteByte('\n')
}

func writeTime(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339Nano)
}

func readTime(v string) (time.Time, error) {
	t, err := time.Parse(time.RFC3339Nano, v)
	if err != nil {
		return t, fmt.Errorf("%q is no time as in 2026-11-23T08:00:00Z", v)
	}
	return t.UTC(), nil
}
