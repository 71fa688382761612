package nameserver

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/miekg/dns"

	"andamio/internal/durable"
)

// Kept is what a name server has for as long as it is kept: where it is, and the key that changes its zone.
type Kept struct {
	Zone     string `json:"zone"`
	Address  string `json:"address"`
	Resolver string `json:"resolver"`
	Key      string `json:"key"`
	Secret   string `json:"secret"`
}

// Kept is what is to be kept of the server, to be started with again.
func (s *Server) Kept() *Kept { return &Kept{s.Zone, s.Address, s.Resolver, s.Key, s.Secret} }

// keptZone is the zone in its file: records as in a zone file (RFC 1035, section 5).
type keptZone struct {
	Serial  uint32   `json:"serial"`
	Records []string `json:"records"`
}

// keep writes the zone before a change of it is answered. The lock is held.
func (s *Server) keep() error {
	if s.file == "" {
		return nil
	}
	k := keptZone{Serial: s.serial, Records: []string{}}
	for _, list := range s.rrs {
		for _, rr := range list {
			k.Records = append(k.Records, rr.String())
		}
	}
	return durable.WriteJSON(s.file, k)
}

// recall reads the zone, if it was kept.
func (s *Server) recall() error {
	if s.file == "" {
		return nil
	}
	data, err := os.ReadFile(s.file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	var k keptZone
	if err := json.Unmarshal(data, &k); err != nil {
		return fmt.Errorf("%s is damaged: %w", s.file, err)
	}
	s.serial = k.Serial
	for _, text := range k.Records {
		rr, err := dns.NewRR(text)
		if err != nil || rr == nil {
			return fmt.Errorf("%s is damaged at %q", s.file, text)
		}
		at := key(rr.Header().Name, rr.Header().Rrtype)
		s.rrs[at] = append(s.rrs[at], rr)
	}
	return nil
}
