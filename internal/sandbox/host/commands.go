package host

import (
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/afero"
	"mvdan.cc/sh/v3/expand"
)

// call is one call of a command.
type call struct {
	h    *Host
	ctx  context.Context
	args []string
	dir  string
	in   io.Reader
	out  io.Writer
	env  expand.Environ
}

func abs(dir, name string) string {
	if path.IsAbs(name) {
		return path.Clean(name)
	}
	return path.Join(dir, name)
}

// split separates single-letter flags from operands.
func (c *call) split() (flags string, operands []string) {
	for i, a := range c.args {
		if a == "--" {
			return flags, append(operands, c.args[i+1:]...)
		}
		if len(a) > 1 && a[0] == '-' {
			flags += a[1:]
			continue
		}
		operands = append(operands, a)
	}
	return flags, operands
}

// commands are the programs of a stand-in instance, in their everyday forms. The shell itself brings echo, printf,
// read, test, cd and the like.
var commands map[string]func(*call) error

func init() {
	commands = map[string]func(*call) error{
		"cat": cat, "mkdir": mkdir, "rm": rm, "cp": cp, "mv": mv, "ls": ls, "touch": touch, "tee": tee, "chmod": chmod,
		"grep": grep, "head": head, "tail": tail, "wc": wc, "sha256sum": sha256sum,
		"sleep": sleep, "date": date, "hostname": hostname, "uname": uname, "env": env, "id": id, "kill": kill,
		"httpd": httpd, "nc": nc, "wget": wget, "netstat": netstat, "fuser": fuser, "haproxy": haproxy,
		"ps": ps, "dpkg-query": dpkgQuery, "df": df, "systemctl": systemctl,
	}
}

// inputs opens the operands, or standard input if there are none.
func (c *call) inputs(operands []string, use func(name string, r io.Reader) error) error {
	if len(operands) == 0 {
		return use("-", c.in)
	}
	for _, name := range operands {
		if name == "-" {
			if err := use("-", c.in); err != nil {
				return err
			}
			continue
		}
		if text, is := c.h.proc(abs(c.dir, name)); is {
			if err := use(name, strings.NewReader(text)); err != nil {
				return err
			}
			continue
		}
		f, err := c.h.fs.Open(abs(c.dir, name))
		if err != nil {
			return fmt.Errorf("%s: no such file", name)
		}
		err = use(name, f)
		f.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func cat(c *call) error {
	_, files := c.split()
	return c.inputs(files, func(_ string, r io.Reader) error {
		_, err := io.Copy(c.out, r)
		return err
	})
}

// kill asks with -0 whether a process is there. All programs of a machine are of one process here, which is there as long
// as the machine is on; a balancer alone has a number of its own, by which it can be killed.
func kill(c *call) error {
	if len(c.args) == 0 {
		return errors.New("takes the number of a process")
	}
	number, err := strconv.Atoi(c.args[len(c.args)-1])
	asks := len(c.args) == 2 && c.args[0] == "-0"
	switch {
	case err != nil:
	case asks && number == os.Getpid():
		return nil
	case c.h.balances(number - firstProcess):
		if asks {
			return nil
		}
		return c.h.stop(number - firstProcess)
	}
	return errors.New("no such process")
}

// balances reports that a balancer listens on a port.
func (h *Host) balances(port int) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	s := h.services[port]
	return s != nil && s.balancer != nil
}

func mkdir(c *call) error {
	flags, dirs := c.split()
	for _, d := range dirs {
		make := c.h.fs.Mkdir
		if strings.Contains(flags, "p") {
			make = c.h.fs.MkdirAll
		}
		if err := make(abs(c.dir, d), 0o755); err != nil {
			return fmt.Errorf("%s: cannot be made", d)
		}
	}
	return nil
}

func rm(c *call) error {
	flags, names := c.split()
	for _, name := range names {
		p := abs(c.dir, name)
		info, err := c.h.fs.Stat(p)
		switch {
		case err != nil && strings.Contains(flags, "f"):
			continue
		case err != nil:
			return fmt.Errorf("%s: no such file", name)
		case info.IsDir() && !strings.Contains(flags, "r"):
			return fmt.Errorf("%s: is a directory", name)
		}
		if err := c.h.fs.RemoveAll(p); err != nil {
			return err
		}
	}
	return nil
}

// destination is where a file goes: into the folder, or to the name.
func (c *call) destination(from, to string) string {
	p := abs(c.dir, to)
	if ok, _ := afero.IsDir(c.h.fs, p); ok {
		return path.Join(p, path.Base(from))
	}
	return p
}

func cp(c *call) error {
	_, names := c.split()
	if len(names) != 2 {
		return errors.New("takes a file and a destination")
	}
	data, err := afero.ReadFile(c.h.fs, abs(c.dir, names[0]))
	if err != nil {
		return fmt.Errorf("%s: no such file", names[0])
	}
	return afero.WriteFile(c.h.fs, c.destination(names[0], names[1]), data, 0o644)
}

func mv(c *call) error {
	_, names := c.split()
	if len(names) != 2 {
		return errors.New("takes a file and a destination")
	}
	return c.h.fs.Rename(abs(c.dir, names[0]), c.destination(names[0], names[1]))
}

func ls(c *call) error {
	flags, names := c.split()
	if len(names) == 0 {
		names = []string{c.dir}
	}
	for _, name := range names {
		entries, err := afero.ReadDir(c.h.fs, abs(c.dir, name))
		if err != nil {
			if ok, _ := afero.Exists(c.h.fs, abs(c.dir, name)); !ok {
				return fmt.Errorf("%s: no such file", name)
			}
			fmt.Fprintln(c.out, name)
			continue
		}
		for _, e := range entries {
			c.entry(flags, e)
		}
	}
	return nil
}

func (c *call) entry(flags string, e fs.FileInfo) {
	if strings.Contains(flags, "l") {
		fmt.Fprintf(c.out, "%s %8d %s\n", e.Mode(), e.Size(), e.Name())
		return
	}
	fmt.Fprintln(c.out, e.Name())
}

func touch(c *call) error {
	_, names := c.split()
	for _, name := range names {
		p := abs(c.dir, name)
		if ok, _ := afero.Exists(c.h.fs, p); !ok {
			if err := afero.WriteFile(c.h.fs, p, nil, 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

func tee(c *call) error {
	_, names := c.split()
	data, err := io.ReadAll(c.in)
	if err != nil {
		return err
	}
	for _, name := range names {
		if err := afero.WriteFile(c.h.fs, abs(c.dir, name), data, 0o644); err != nil {
			return err
		}
	}
	_, err = c.out.Write(data)
	return err
}

func chmod(*call) error { return nil }

func grep(c *call) error {
	flags, operands := c.split()
	if len(operands) == 0 {
		return exitCode(2)
	}
	re, err := regexp.Compile(operands[0])
	if err != nil {
		return exitCode(2)
	}
	found := false
	err = c.inputs(operands[1:], func(_ string, r io.Reader) error {
		for lines := bufio.NewScanner(r); lines.Scan(); {
			if re.MatchString(lines.Text()) == strings.Contains(flags, "v") {
				continue
			}
			found = true
			if !strings.Contains(flags, "q") {
				fmt.Fprintln(c.out, lines.Text())
			}
		}
		return nil
	})
	if err == nil && !found {
		return exitCode(1)
	}
	return err
}

// count reads "-n N" and "-N" of head and tail, 10 if neither is given.
func (c *call) count() (int, []string) {
	n, rest := 10, []string{}
	for i := 0; i < len(c.args); i++ {
		a := c.args[i]
		if a == "-n" && i+1 < len(c.args) {
			i++
			a = "-" + c.args[i]
		}
		if v, err := strconv.Atoi(strings.TrimPrefix(a, "-")); err == nil && strings.HasPrefix(a, "-") {
			n = v
			continue
		}
		rest = append(rest, a)
	}
	return n, rest
}

func (c *call) lines(names []string) ([]string, error) {
	var out []string
	err := c.inputs(names, func(_ string, r io.Reader) error {
		scan := bufio.NewScanner(r)
		for scan.Scan() {
			out = append(out, scan.Text())
		}
		return scan.Err()
	})
	return out, err
}

func head(c *call) error {
	n, names := c.count()
	lines, err := c.lines(names)
	for _, l := range lines[:min(n, len(lines))] {
		fmt.Fprintln(c.out, l)
	}
	return err
}

func tail(c *call) error {
	n, names := c.count()
	lines, err := c.lines(names)
	for _, l := range lines[max(0, len(lines)-n):] {
		fmt.Fprintln(c.out, l)
	}
	return err
}

func wc(c *call) error {
	flags, names := c.split()
	return c.inputs(names, func(_ string, r io.Reader) error {
		data, err := io.ReadAll(r)
		text := string(data)
		counts := map[string]int{"l": strings.Count(text, "\n"), "w": len(strings.Fields(text)), "c": len(text)}
		if n, ok := counts[flags]; ok {
			fmt.Fprintln(c.out, n)
			return err
		}
		fmt.Fprintln(c.out, counts["l"], counts["w"], counts["c"])
		return err
	})
}

func sha256sum(c *call) error {
	_, names := c.split()
	return c.inputs(names, func(name string, r io.Reader) error {
		sum := sha256.New()
		if _, err := io.Copy(sum, r); err != nil {
			return err
		}
		fmt.Fprintf(c.out, "%x  %s\n", sum.Sum(nil), name)
		return nil
	})
}

func sleep(c *call) error {
	for _, a := range c.args {
		unit := time.Second
		if strings.HasSuffix(a, "m") {
			unit = time.Minute
		}
		n, err := strconv.ParseFloat(strings.TrimRight(a, "sm"), 64)
		if err != nil || n < 0 || n > 86400 {
			return fmt.Errorf("%s: no time to sleep", a)
		}
		if err := c.h.sleep(c.ctx, time.Duration(n*float64(unit))); err != nil {
			return err
		}
	}
	return nil
}

func date(c *call) error {
	fmt.Fprintln(c.out, time.Now().UTC().Format(time.RFC3339))
	return nil
}

func hostname(c *call) error { fmt.Fprintln(c.out, c.h.Name); return nil }

func uname(c *call) error { fmt.Fprintln(c.out, "Linux", c.h.Name); return nil }

func id(c *call) error { fmt.Fprintln(c.out, User); return nil }

func env(c *call) error {
	for _, line := range environ(c.env) {
		fmt.Fprintln(c.out, line)
	}
	return nil
}
