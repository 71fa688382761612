package host

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/afero"
)

// System files that say what the machine is, beside those of [New].
var systemFiles = map[string]string{
	"/etc/os-release":       "ID=debian\nVERSION_ID=\"12\"\nPRETTY_NAME=\"Debian GNU/Linux 12 (stand-in)\"\n",
	"/var/lib/dpkg/list.in": "base-files 12.4\nbusybox 1.35.0\nopenssh-server 9.2\n",
}

// netstat lists what listens; with -t the connections that were made, with -l those that are waited for.
func netstat(c *call) error {
	flags, _ := c.split()
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	ports := slices.Sorted(maps.Keys(c.h.services))
	switch {
	case flags == "":
		for _, port := range ports {
			fmt.Fprintf(c.out, "tcp  %5d  listen  %s\n", port, c.h.services[port].command)
		}
	case strings.Contains(flags, "l"):
		for _, port := range ports {
			program, _, _ := strings.Cut(c.h.services[port].command, " ")
			fmt.Fprintf(c.out, "tcp        0      0 0.0.0.0:%-15d 0.0.0.0:*  LISTEN  %d/%s\n", port, os.Getpid(), program)
		}
	default:
		for _, peer := range slices.Sorted(maps.Keys(c.h.peers)) {
			fmt.Fprintf(c.out, "tcp        0      0 0.0.0.0:0  %s  TIME_WAIT\n", peer)
		}
	}
	return nil
}

// ps lists what runs: the services.
func ps(c *call) error {
	c.h.mu.Lock()
	defer c.h.mu.Unlock()
	fmt.Fprintln(c.out, "    PID COMMAND")
	for i, port := range slices.Sorted(maps.Keys(c.h.services)) {
		fmt.Fprintf(c.out, "%7d %s\n", 100+i, c.h.services[port].command)
	}
	return nil
}

// dpkgQuery lists the packages: dpkg-query -W.
func dpkgQuery(c *call) error {
	if len(c.args) == 0 || c.args[0] != "-W" {
		return errors.New("takes -W")
	}
	list, err := afero.ReadFile(c.h.fs, "/var/lib/dpkg/list.in")
	if err != nil {
		return err
	}
	_, err = c.out.Write(list)
	return err
}
