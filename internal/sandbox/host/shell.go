package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/afero"
	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// Run runs a shell script with the given environment and returns its exit status.
func (h *Host) Run(ctx context.Context, script string, env []string, in io.Reader, out, errOut io.Writer) int {
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(script), "script")
	if err != nil {
		fmt.Fprintln(errOut, err)
		return 2
	}
	runner, err := h.runner(env, in, out, errOut)
	if err != nil {
		fmt.Fprintln(errOut, err)
		return 126
	}
	until, cancel := context.WithCancel(ctx)
	stop := context.AfterFunc(h.ctx, cancel)
	if inBackground(file) { // what goes on after the script ends with the machine
		until = h.ctx
	}
	defer cancel()
	defer stop()
	return status(runner.Run(until, file))
}

// inBackground reports that a script leaves something that goes on after it.
func inBackground(file *syntax.File) bool {
	found := false
	syntax.Walk(file, func(n syntax.Node) bool {
		if s, is := n.(*syntax.Stmt); is && s.Background {
			found = true
		}
		return !found
	})
	return found
}

func status(err error) int {
	var code interp.ExitStatus
	if errors.As(err, &code) {
		return int(code)
	}
	if err != nil {
		return 1
	}
	return 0
}

// runner makes an interpreter whose every way out leads into this host.
func (h *Host) runner(env []string, in io.Reader, out, errOut io.Writer) (*interp.Runner, error) {
	base := []string{"PATH=/bin", "HOME=/home/" + User, "USER=" + User, "HOSTNAME=" + h.Name}
	return interp.New(
		interp.Env(expand.ListEnviron(append(base, env...)...)),
		interp.Dir("/"),
		interp.StdIO(in, out, errOut),
		interp.OpenHandler(h.openFile),
		interp.StatHandler(func(_ context.Context, name string, _ bool) (fs.FileInfo, error) { return h.fs.Stat(name) }),
		interp.ReadDirHandler2(func(_ context.Context, name string) ([]fs.DirEntry, error) {
			return fs.ReadDir(afero.NewIOFS(h.fs), strings.TrimPrefix(name, "/"))
		}),
		interp.AccessHandler(func(_ context.Context, name string, _ interp.AccessMode) error {
			_, err := h.fs.Stat(name)
			return err
		}),
		interp.CallHandler(func(_ context.Context, args []string) ([]string, error) {
			if args[0] == "kill" { // the interpreter's own knows no signals
				args = append([]string{"/bin/kill"}, args[1:]...)
			}
			return args, nil
		}),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return h.exec }),
	)
}

// null is /dev/null.
type null struct{}

func (null) Read([]byte) (int, error)    { return 0, io.EOF }
func (null) Write(p []byte) (int, error) { return len(p), nil }
func (null) Close() error                { return nil }

func (h *Host) openFile(_ context.Context, name string, flag int, perm os.FileMode) (io.ReadWriteCloser, error) {
	if name == "/dev/null" {
		return null{}, nil
	}
	return h.fs.OpenFile(name, flag, perm)
}

// exec runs a command that is no builtin of the shell: one of ours, or a script in the host's file system.
func (h *Host) exec(ctx context.Context, args []string) error {
	hc := interp.HandlerCtx(ctx)
	if cmd, ok := commands[strings.TrimPrefix(args[0], "/bin/")]; ok {
		call := &call{h: h, ctx: ctx, args: args[1:], dir: hc.Dir, in: hc.Stdin, out: hc.Stdout, env: hc.Env}
		err := cmd(call)
		var code exitCode
		switch {
		case err == nil:
			return nil
		case errors.As(err, &code):
			return interp.ExitStatus(code)
		}
		fmt.Fprintf(hc.Stderr, "%s: %v\n", args[0], err)
		return interp.ExitStatus(1)
	}
	if strings.Contains(args[0], "/") {
		if script, err := afero.ReadFile(h.fs, abs(hc.Dir, args[0])); err == nil {
			if code := h.Run(ctx, string(script), environ(hc.Env), hc.Stdin, hc.Stdout, hc.Stderr); code != 0 {
				return interp.ExitStatus(code) // a status of 0 is no error, and must not be returned as one
			}
			return nil
		}
	}
	fmt.Fprintf(hc.Stderr, "%s: command not found\n", args[0])
	return interp.ExitStatus(127)
}

// exitCode is an error that ends a command with a status of its own.
type exitCode uint8

func (e exitCode) Error() string { return fmt.Sprintf("exit status %d", uint8(e)) }

// environ lists the exported variables.
func environ(env expand.Environ) []string {
	var out []string
	for name, v := range env.Each {
		if v.Exported && v.Kind == expand.String {
			out = append(out, name+"="+v.Str)
		}
	}
	return out
}
