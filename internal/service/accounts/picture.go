package accounts

import (
	"bytes"
	"context"
	"path/filepath"
	"time"

	"andamio/internal/core/ledger"
	"andamio/internal/draw"
	"andamio/internal/durable"
	"andamio/internal/service/deployments"
)

// DrawAccount writes an account into a folder: as a chart in every format, and with the columns of FOCUS where rates say what a unit is worth. It
// returns the files' names.
func (svc *Service) DrawAccount(ctx context.Context, q ledger.Query, dir string, now time.Time) ([]string, error) {
	a, err := svc.Account(ctx, q, now)
	if err != nil {
		return nil, err
	}
	var files []string
	for _, format := range draw.Formats {
		file := filepath.Join(dir, "account."+format)
		if err := deployments.WritePicture(draw.Account(a.Account), file, format); err != nil {
			return files, err
		}
		files = append(files, file)
	}
	if a.Rate == nil {
		return files, nil
	}
	var text bytes.Buffer
	if _, err := svc.ExportAccount(ctx, q, &text, now); err != nil {
		return files, err
	}
	file := filepath.Join(dir, "account.csv")
	return append(files, file), durable.Write(file, text.Bytes())
}
