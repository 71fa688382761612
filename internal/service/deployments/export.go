package deployments

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"andamio/internal/core/elevation"
	"andamio/internal/core/fault"
	"andamio/internal/core/run"
	"andamio/internal/draw"
)

// Pictures of a state, by name.
func picture(s *run.State, what string, by elevation.By, now time.Time) (*draw.Picture, error) {
	switch what {
	case "elevation":
		return draw.Elevation(s, by), nil
	case "timeline":
		return draw.Timeline(s, now), nil
	}
	return nil, fault.Invalidf("there is no picture %q; there are elevation and timeline", what)
}

// ExportPicture writes one picture of a state; the file's ending says the format.
func ExportPicture(s *run.State, what string, by elevation.By, now time.Time, file string) error {
	pic, err := picture(s, what, by, now)
	if err != nil {
		return err
	}
	return WritePicture(pic, file, strings.TrimPrefix(filepath.Ext(file), "."))
}

// ExportPictures writes elevation and timeline of a state in every format into a folder, and returns the files' names.
func ExportPictures(s *run.State, by elevation.By, now time.Time, dir string) ([]string, error) {
	var files []string
	for _, what := range []string{"elevation", "timeline"} {
		for _, format := range draw.Formats {
			name := filepath.Join(dir, fmt.Sprintf("%s-%s.%s", fileName(s.Plan.Name), what, format))
			if err := ExportPicture(s, what, by, now, name); err != nil {
				return files, err
			}
			files = append(files, name)
		}
	}
	return files, nil
}

// fileName makes any name one of a file.
func fileName(name string) string {
	clean := strings.Map(func(r rune) rune {
		if r == '/' || r == '\\' || r == '.' || r < ' ' {
			return '-'
		}
		return r
	}, name)
	if clean == "" {
		return "plan"
	}
	return clean
}
