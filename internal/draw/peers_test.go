package draw

import (
	"bytes"
	"context"
	"encoding/xml"
	"image/color"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// hard is text of many scripts, and what only looks like marks.
var hard = []string{"12 × 4 GiB · 3 %", "Größe … ≤ 20 °C", "río Guadalhorce, ñandú", "Ωμέγα · река", `<a href="x">& 'quotes'`, "minus − and –"}

// hardPicture has such text in both weights, at the left and at the right.
func hardPicture() *Picture {
	return &Picture{W: 400, H: 300, paint: func(p *painter) {
		for i, text := range hard {
			p.rect(10, float64(20+40*i), 380, 30, paper)
			p.text(10, float64(30+40*i), 380, 10, i%2 == 0, ink, text)
			p.textRight(390, float64(45+40*i), 380, 10, color.NRGBA{0x1b, 0x22, 0x29, 0xff}, text)
		}
		p.text(10, 280, 380, 10, false, ink, "level \U0001f30a, control \x07 gone")
	}}
}

// ran is what a program of others says of a picture.
func ran(t *testing.T, file string, name string, args ...string) string {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skipf("there is no %s here", name)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, name, append(args, file)...).CombinedOutput()
	require.NoError(t, err, "%s: %s", name, out)
	return string(out)
}

func written(t *testing.T, pic *Picture, format string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "picture."+format)
	f, err := os.Create(file)
	require.NoError(t, err)
	require.NoError(t, pic.Write(f, format))
	require.NoError(t, f.Close())
	return file
}

// TestTextInPDFIsWhatItSays has others read what is written: the file is sound, its fonts are in it, and text is found as it was.
func TestTextInPDFIsWhatItSays(t *testing.T) {
	file := written(t, hardPicture(), "pdf")
	assert.NotContains(t, ran(t, file, "qpdf", "--check"), "WARNING")
	text, err := exec.CommandContext(t.Context(), "pdftotext", "-layout", file, "-").Output()
	require.NoError(t, err)
	for _, want := range hard {
		assert.Equal(t, 2, bytes.Count(text, []byte(want)), "%q is there twice in\n%s", want, text)
	}
	assert.Contains(t, string(text), "control gone", "nothing that controls")
	fonts := ran(t, file, "pdffonts")
	assert.Contains(t, fonts, "liberationB", "bold is bold")
	assert.NotContains(t, fonts, " no  no ", "fonts are in the file, with what they mean")
}

// TestSVGIsDrawnByOthers reads it as XML, and has it be drawn.
func TestSVGIsDrawnByOthers(t *testing.T) {
	file := written(t, hardPicture(), "svg")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	dec, text := xml.NewDecoder(bytes.NewReader(data)), ""
	for {
		token, err := dec.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		if chars, is := token.(xml.CharData); is {
			text += string(chars)
		}
	}
	for _, want := range hard {
		assert.Contains(t, text, want)
	}
	assert.Contains(t, ran(t, file, "rsvg-convert", "-f", "png")[:4], "PNG")
	assert.Contains(t, string(data), "font-weight:bold")
}
