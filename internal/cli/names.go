package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/names"
)

// envNamesSecret gives the secret of the key that changes a zone.
const envNamesSecret = "ANDAMIO_NAMES_SECRET"

func (s *shared) names() *cobra.Command {
	var z names.Zone
	var file string
	cmd := &cobra.Command{
		Use:   "names [ZONE]",
		Short: "Connect the name server that keeps the names of services, or show which it is",
		Long: `Services are known by names in a zone, which is changed by dynamic update (RFC 2136) signed with a key (TSIG,
RFC 8945). The zone is tried, by publishing a name and taking it back, before it is kept. The key's secret, base64, comes
from --secret-file, from ` + envNamesSecret + `, or is asked for. Plans made from then on keep the names of what they build.`,
		Args: cobra.MaximumNArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			if len(args) == 0 {
				return s.showZone(a)
			}
			z.Name = args[0]
			secret, err := s.namesSecret(file)
			if err != nil {
				return err
			}
			z.Secret = secret
			if err := a.ConnectNames(ctx, z); err != nil {
				return err
			}
			return s.showZone(a)
		}),
	}
	cmd.Flags().StringVar(&z.Server, "server", "", "address and port of the zone's primary name server, such as 192.0.2.53:53")
	cmd.Flags().StringSliceVar(&z.Resolvers, "resolver", nil, "address and port of a resolver that users ask; may be given again")
	cmd.Flags().StringVar(&z.Key, "key", "", "name of the key")
	oneOf(cmd.Flags(), &z.Algorithm, "algorithm", "hmac-sha256", "algorithm of the key: "+strings.Join(names.Algorithms, ", "), names.Algorithms...)
	cmd.Flags().Uint32Var(&z.TTL, "ttl", 60, "for how many seconds resolvers may keep an answer")
	cmd.Flags().StringVar(&file, "secret-file", "", "file that holds the key's secret")
	return cmd
}

func (s *shared) namesSecret(file string) (string, error) {
	if file != "" {
		data, err := os.ReadFile(file)
		return strings.TrimSpace(string(data)), err
	}
	if v := s.env(envNamesSecret); v != "" {
		return v, nil
	}
	return s.secret("secret of the key: ")
}

// secret asks for something that is not shown; without anybody to ask it reads a line.
func (s *shared) secret(prompt string) (string, error) {
	if s.asks() {
		fmt.Fprint(s.err, prompt)
		line, err := s.hidden()
		fmt.Fprintln(s.err)
		return strings.TrimSpace(line), err
	}
	line, err := bufio.NewReader(io.LimitReader(s.in, 64<<10)).ReadString('\n')
	if line = strings.TrimSpace(line); line != "" {
		return line, nil
	}
	return "", errors.Join(fault.Invalidf("nothing was given for %q", strings.TrimSuffix(prompt, ": ")), err)
}

func (s *shared) showZone(a *app.App) error {
	z, err := a.Zone()
	if err != nil {
		return err
	}
	if s.json {
		return namesValue.print(s, z)
	}
	if z == nil {
		fmt.Fprintln(s.out, "no name server is connected; andamio names ZONE --server ADDRESS:PORT --key NAME connects one")
		return nil
	}
	fmt.Fprintf(s.out, "%s is kept at %s with the key %s (%s); answers may be kept for %d s\n", z.Name, z.Server, z.Key, z.Algorithm, z.TTL)
	for _, r := range z.Resolvers {
		fmt.Fprintf(s.out, "  resolver %s\n", r)
	}
	return nil
}
