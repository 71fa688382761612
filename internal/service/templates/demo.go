package templates

import (
	"io/fs"

	"andamio/examples"
	"andamio/internal/core/estate"
)

// DemoName is the scenario that ships with the program.
const DemoName = "flood-watch"

// DemoFiles is the scenario's folder.
func DemoFiles() fs.FS {
	sub, err := fs.Sub(examples.Files, DemoName)
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return sub
}

// DemoEstate is the scenario's estate.
func DemoEstate() (*estate.Estate, error) {
	data, err := fs.ReadFile(DemoFiles(), "estate.json")
	if err != nil {
		return nil, err
	}
	return estate.Read(data)
}

// DemoTemplate is the scenario's template.
func DemoTemplate() (*Template, error) { return ReadTemplate(DemoFiles(), DemoName, "template.yaml") }
