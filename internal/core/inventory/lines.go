package inventory

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
)

// maxLine bounds one line of JSON.
const maxLine = 1 << 20

// ReadLines reads records as JSON Lines: one JSON object a line. Errors name the line.
func ReadLines(data []byte) (Records, error) {
	var out Records
	seen := map[string]bool{}
	scan := bufio.NewScanner(bytes.NewReader(data))
	scan.Buffer(make([]byte, 64<<10), maxLine)
	for n := 1; scan.Scan(); n++ {
		line := bytes.TrimSpace(scan.Bytes())
		if len(line) == 0 {
			continue
		}
		var r Record
		dec := json.NewDecoder(bytes.NewReader(line))
		dec.DisallowUnknownFields()
		err := dec.Decode(&r)
		if err == nil {
			err = checkRecord(&r, seen)
		}
		if err != nil {
			return nil, fmt.Errorf("line %d: this is no record: %w", n, err)
		}
		out = append(out, r.Normal())
	}
	if err := scan.Err(); err != nil {
		return nil, fmt.Errorf("a line is longer than %d bytes: %w", maxLine, err)
	}
	return out, nil
}

// WriteLines writes records as JSON Lines.
func WriteLines(records Records) ([]byte, error) {
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	for i := range records {
		if err := enc.Encode(records[i].Normal()); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}

// ReadAny reads records in either form: JSON Lines if the first character is an opening brace, else a table.
func ReadAny(data []byte) (Source, error) {
	if text := bytes.TrimSpace(data); len(text) == 0 || text[0] == '{' {
		records, err := ReadLines(data)
		return records, err
	}
	return ReadTable(data)
}
