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

// Use is how much of it a machine uses: of processors in cores, of memory and of its disk in bytes.
type Use struct{ Cores, Memory, MemoryHeld, Disk, DiskHeld float64 }

// proc is a file of what goes on in the machine, which its system makes when it is read; false if there is none of that name.
func (h *Host) proc(name string) (string, bool) {
	u := h.used()
	switch name {
	case "/proc/loadavg":
		return fmt.Sprintf("%.2f %.2f %.2f 1/80 %d\n", u.Cores, u.Cores, u.Cores, os.Getpid()), true
	case "/proc/meminfo":
		return fmt.Sprintf("MemTotal: %15.0f kB\nMemFree: %16.0f kB\nMemAvailable: %11.0f kB\n", u.MemoryHeld/1024, (u.MemoryHeld-u.Memory)/1024, (u.MemoryHeld-u.Memory)/1024), true
	}
	return "", false
}

// used is how much it uses, as whoever keeps it says.
func (h *Host) used() Use {
	if h.Using == nil {
		return Use{}
	}
	return h.Using()
}

// df says how full the machine's own disk is: df -kP.
func df(c *call) error {
	u := c.h.used()
	fmt.Fprintln(c.out, "Filesystem     1024-blocks      Used Available Capacity Mounted on")
	if u.DiskHeld > 0 {
		fmt.Fprintf(c.out, "/dev/vda1      %11.0f %9.0f %9.0f %7.0f%% /\n", u.DiskHeld/1024, u.Disk/1024, (u.DiskHeld-u.Disk)/1024, 100*u.Disk/u.DiskHeld)
	}
	fmt.Fprintln(c.out, "tmpfs                 65536         0     65536       0% /run")
	return nil
}

// failedServices has the names of services that failed, a line each, as whoever tries that wrote them.
const failedServices = "/run/failed"

// systemctl lists the services that failed: systemctl --failed.
func systemctl(c *call) error {
	if len(c.args) > 0 && c.args[0] == "--version" {
		fmt.Fprintln(c.out, "systemd, a stand-in")
		return nil
	}
	if len(c.args) == 0 || c.args[0] != "--failed" {
		return errors.New("takes --failed")
	}
	names, err := afero.ReadFile(c.h.fs, failedServices)
	if err != nil {
		return nil //nolint:nilerr // none failed
	}
	for _, name := range strings.Fields(string(names)) {
		fmt.Fprintf(c.out, "%s loaded failed failed %s\n", name, name)
	}
	return nil
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
