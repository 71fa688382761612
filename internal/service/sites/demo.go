package sites

import (
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"andamio/internal/names"
	"andamio/internal/sandbox"
)

// DemoDir is the demo's own workspace, under the user's cache.
func DemoDir() (string, error) {
	base := os.Getenv("XDG_CACHE_HOME")
	if !filepath.IsAbs(base) {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", fmt.Errorf("there is no home folder for the demo; name one with --workspace: %w", err)
		}
		base = filepath.Join(home, ".cache")
	}
	return filepath.Join(base, "andamio", "demo"), nil
}

// standInTTL is for how many seconds answers of the stand-in name server may be kept.
const standInTTL = 2

// zoneOf is the zone of stand-ins; none if they keep no names.
func zoneOf(s *sandbox.Sandbox) names.Zone {
	if s.Names == nil {
		return names.Zone{}
	}
	return names.Zone{Name: strings.TrimSuffix(s.Names.Zone, "."), Server: s.Names.Address, Resolvers: []string{s.Names.Resolver},
		Key: s.Names.Key, Secret: s.Names.Secret, Algorithm: "hmac-sha256", TTL: standInTTL}
}

func randomSecret() string {
	b := make([]byte, 12)
	_, _ = rand.Read(b)
	return hex.EncodeToString(b)
}
