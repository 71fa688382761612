package templates

import (
	"andamio/internal/core/estate"
	"andamio/internal/core/tosca"
	"andamio/internal/source"
)

// Trigger checks the example of an explanation, and returns what is wrong with it.
func Trigger(e tosca.Explanation) (tosca.Diagnostics, error) {
	files := map[string][]byte{"template.yaml": []byte(e.Example)}
	for name, text := range e.More {
		files[name] = []byte(text)
	}
	t, err := ReadTemplate(source.Memory(files), "example", "template.yaml")
	if err != nil {
		return nil, err
	}
	var sites *estate.Estate
	if data := files["estate.json"]; data != nil {
		if sites, err = estate.Read(data); err != nil {
			return nil, err
		}
	}
	if e.Code == tosca.CodeMissingInput {
		return NewDraft(t, DraftRequest{}, nil).Diagnostics, nil
	}
	return t.Check("", sites, nil)
}
