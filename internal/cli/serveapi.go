package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"andamio/internal/api"
	"andamio/internal/app"
	"andamio/internal/durable"
)

// The files of a certificate that was made for a first day, in the workspace.
const (
	fileAuthority   = "api-authority.pem"
	fileCertificate = "api-certificate.pem"
	fileKey         = "api-key.pem"
)

// programs says where and how programs are served.
type programs struct {
	api.Where
	// makes are names and addresses that a certificate is made of for a first day.
	makes []string
}

// openAPI serves programs, if it is said where, and returns what waits until that has ended.
func (s *shared) openAPI(ctx context.Context, a *app.App, p programs) (ended func() error, err error) {
	if p.Address == "" {
		return func() error { return nil }, nil
	}
	if err := s.firstCertificate(a.Opened().Dir, &p); err != nil {
		return nil, err
	}
	l, err := p.Open()
	if err != nil {
		return nil, err
	}
	if !s.json {
		fmt.Fprintf(s.out, "programs at %s; andamio token make NAME makes what they show\n", api.URL(l))
	}
	pin, err := p.Pin()
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	ctx, stop := context.WithCancel(ctx)
	done := make(chan error, 1)
	server := api.New(a, api.Usual)
	server.Receives(Receive)
	server.RelaysAt(api.ReachedAt(l), pin)
	go func() { done <- server.Serve(ctx, l) }()
	return func() error {
		stop()
		return <-done
	}, nil
}

// firstCertificate makes a certificate for a first day where that is asked for, and uses the one that was made where no other is named.
func (s *shared) firstCertificate(dir string, p *programs) error {
	at := func(name string) string { return filepath.Join(dir, name) }
	if len(p.makes) > 0 {
		made, err := api.MakePair(p.makes, time.Now())
		if err != nil {
			return err
		}
		err = errors.Join(durable.Write(at(fileKey), made.Key), durable.Write(at(fileCertificate), made.Certificate), durable.Write(at(fileAuthority), made.Authority))
		if err != nil {
			return err
		}
		fmt.Fprintf(s.err, "programs are to trust %s, which vouches for %s alone, for a year\n", at(fileAuthority), p.makes[0])
		p.makes = nil
	}
	if p.Certificate != "" || p.Key != "" {
		return nil
	}
	if _, err := os.Stat(at(fileCertificate)); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	p.Certificate, p.Key = at(fileCertificate), at(fileKey)
	return nil
}
