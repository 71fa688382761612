package topology

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"andamio/internal/core/tosca"
)

// FuzzBuild reads and works out any text: functions, filters, substitution and workflows included. It must neither
// panic nor hang, and what it finds must have a place.
func FuzzBuild(f *testing.F) {
	for _, kind := range []string{"valid", "invalid"} {
		names, err := filepath.Glob("testdata/" + kind + "/*.yaml")
		if err != nil {
			f.Fatal(err)
		}
		for _, n := range names {
			data, err := os.ReadFile(n)
			if err != nil {
				f.Fatal(err)
			}
			f.Add(string(data))
		}
	}
	f.Fuzz(func(t *testing.T, text string) {
		tmpl, diags := tosca.Read("t.yaml", func(name string) ([]byte, error) {
			if name == "t.yaml" {
				return []byte(text), nil
			}
			if filepath.Base(name) != name {
				return nil, errors.New("no such file")
			}
			return os.ReadFile(filepath.Join("testdata/lib", name))
		})
		if diags.Errors() == 0 {
			_, found := Build(tmpl, nil, Options{Partial: true, NoSites: true})
			diags = append(diags, found...)
		}
		for _, d := range diags {
			if d.Line < 1 || d.Width < 1 || d.File == "" {
				t.Fatalf("no place: %+v", d)
			}
		}
	})
}
