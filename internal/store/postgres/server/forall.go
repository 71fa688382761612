package server

import (
	"context"
	"fmt"
	"os"
	"sync"
)

// Shared is a server that is made when it is asked for first, for all of a program that tests something.
type Shared struct {
	once sync.Once
	dir  string
	of   *Server
	err  error
}

// Server is the server; nil where PostgreSQL is not installed.
func (s *Shared) Server() (*Server, error) {
	s.once.Do(func() {
		if Installed() == "" {
			return
		}
		if s.dir, s.err = os.MkdirTemp("", "andamio-postgres-"); s.err != nil {
			return
		}
		if s.of, s.err = Make(context.Background(), s.dir); s.err == nil {
			s.err = s.of.Start(context.Background())
		}
		if s.err != nil {
			s.err = fmt.Errorf("no server of PostgreSQL could be started: %w", s.err)
		}
	})
	return s.of, s.err
}

// Close ends it, if it was asked for, with all that is in it.
func (s *Shared) Close() {
	if s.of != nil {
		s.of.Stop()
	}
	if s.dir != "" {
		_ = os.RemoveAll(s.dir)
	}
}
