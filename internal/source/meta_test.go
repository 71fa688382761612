package source

import (
	"archive/zip"
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	gauge = "tosca_definitions_version: tosca_simple_yaml_1_3\nmetadata: { template_name: gauge, template_version: \"1.0\" }\n"
	meta  = "TOSCA-Meta-File-Version: 1.1\nCSAR-Version: 1.1\nCreated-By: Ribera\nEntry-Definitions: t.yaml\n"
)

// TestWhatArchivesSayOfThemselves reads archives with and without TOSCA.meta, in each way in which it may be wrong (sections 6.2 and 6.3).
func TestWhatArchivesSayOfThemselves(t *testing.T) {
	swap := func(old, now string) string { return string(bytes.Replace([]byte(meta), []byte(old), []byte(now), 1)) }
	for name, c := range map[string]struct {
		meta, text, says string
	}{
		"as it is":             {meta, gauge, ""},
		"the older version":    {swap("Version: 1.1\nCSAR-Version: 1.1", "Version: 1.0\nCSAR-Version: 1.0"), gauge, ""},
		"lines of other ends":  {string(bytes.ReplaceAll([]byte(meta), []byte("\n"), []byte("\r\n"))), gauge, ""},
		"a line that goes on":  {swap("Ribera\n", "Ribera\n Flood Watch\n"), gauge, ""},
		"another block":        {meta + "\nName: a.sh\nContent-Type: text/x-sh\n", gauge, ""},
		"others":               {meta + "Other-Definitions: \"t.yaml\" t.yaml\n", gauge, ""},
		"another version":      {swap("CSAR-Version: 1.1", "CSAR-Version: 2.0"), gauge, "says CSAR-Version: 2.0; 1.0 and 1.1 are read"},
		"of another format":    {swap("File-Version: 1.1", "File-Version: 3"), gauge, "says TOSCA-Meta-File-Version: 3"},
		"without a version":    {swap("CSAR-Version: 1.1\n", ""), gauge, "has no line CSAR-Version"},
		"without the format's": {swap("TOSCA-Meta-File-Version: 1.1\n", ""), gauge, "has no line TOSCA-Meta-File-Version"},
		"without an author":    {swap("Created-By: Ribera\n", ""), gauge, "has no line Created-By"},
		"without an entry":     {swap("Entry-Definitions: t.yaml\n", ""), gauge, "has no line Entry-Definitions"},
		"twice":                {meta + "CSAR-Version: 1.1\n", gauge, "line 5 says CSAR-Version again"},
		"no line":              {swap("Created-By: Ribera", "Created by Ribera"), gauge, "is no NAME: VALUE"},
		"others not there":     {meta + "Other-Definitions: u.yaml\n", gauge, `"u.yaml", which is not there`},
		"others outside":       {meta + "Other-Definitions: ../u.yaml\n", gauge, "leads out of the archive"},
		"the template alone":   {"", gauge, ""},
		"without a name":       {"", "tosca_definitions_version: tosca_simple_yaml_1_3\nmetadata: { template_version: 1.0 }\n", "has no template_name"},
		"without metadata":     {"", "tosca_definitions_version: tosca_simple_yaml_1_3\n", "has no template_name"},
		"without its version":  {"", "tosca_definitions_version: tosca_simple_yaml_1_3\nmetadata: { template_name: a }\n", "has no template_version"},
	} {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		for file, text := range map[string]string{metaFile: c.meta, "t.yaml": c.text} {
			if text == "" {
				continue
			}
			w, err := z.Create(file)
			require.NoError(t, err)
			_, err = w.Write([]byte(text))
			require.NoError(t, err)
		}
		require.NoError(t, z.Close())
		got, err := ReadArchive(bytes.NewReader(b.Bytes()), int64(b.Len()))
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, "t.yaml", got.Root, name)
	}
}
