package runs

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"andamio/internal/durable"
	"andamio/internal/engine"
)

// What steps print is kept whole in compressed files of the workspace, one for each that prints, those of the last runs.
const (
	folderLogs = "logs"
	// mostPrinted is how many bytes are kept of a step, runsLogged of how many runs.
	mostPrinted = 64 << 20
	runsLogged  = 100
)

// archiveOf keeps what the steps of a run print, if the workspace can: the journal has the beginning and the end anyhow.
func (svc *Service) archiveOf(runID int64) func(step string) engine.Archive {
	svc.forgetLogs()
	dir := svc.workspace.Path(filepath.Join(folderLogs, fmt.Sprintf("run-%06d", runID)))
	return func(step string) engine.Archive {
		if err := durable.Folder(dir); err != nil {
			svc.log.Warn("what a step prints is not kept whole", "step", step, "err", err)
			return nil
		}
		return &printed{name: filepath.Join(dir, fileOf(step)+".log.gz")}
	}
}

// fileOf is a step's name as one of a file.
func fileOf(step string) string {
	return strings.Map(func(r rune) rune {
		if r == '/' || r == '\\' || r == 0 {
			return '.'
		}
		return r
	}, step)
}

// forgetLogs removes what was kept of older runs.
func (svc *Service) forgetLogs() {
	dirs, err := filepath.Glob(svc.workspace.Path(filepath.Join(folderLogs, "run-*")))
	if err != nil {
		return
	}
	slices.Sort(dirs)
	for _, dir := range dirs[:max(0, len(dirs)-runsLogged)] {
		if err := os.RemoveAll(dir); err != nil {
			svc.log.Warn("the logs of an old run stay", "folder", dir, "err", err)
		}
	}
}

// printed is the file of what one step prints, made when something is. A step that is tried again goes on in it.
type printed struct {
	name string
	f    *os.File
	z    *gzip.Writer
	left int64
}

// Name says where it is.
func (p *printed) Name() string { return p.name }

// Write takes what is printed, as far as the limit.
func (p *printed) Write(text []byte) (int, error) {
	if p.f == nil {
		f, err := os.OpenFile(p.name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, durable.FileMode)
		if err != nil {
			return 0, err
		}
		p.f, p.z, p.left = f, gzip.NewWriter(f), mostPrinted
	}
	if p.left <= 0 {
		return len(text), nil
	}
	n, err := p.z.Write(text)
	if p.left -= int64(n); p.left <= 0 && err == nil {
		_, err = io.WriteString(p.z, "(more was printed than is kept)\n")
	}
	return n, err
}

// Close ends the file.
func (p *printed) Close() error {
	if p.f == nil {
		return nil
	}
	return errors.Join(p.z.Close(), p.f.Close())
}
