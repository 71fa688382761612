package cli

import (
	"errors"
	"fmt"
	"os"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"andamio/internal/core/fault"
	"andamio/internal/session"
	"andamio/internal/upgrade"
)

// far is the server at which the workspace is, if it is not on this machine.
type far struct{ address, token, authority string }

// The variables that say what options say otherwise, and which certificate says who we are where a server asks for one.
const (
	envServer            = "ANDAMIO_SERVER"
	envServerToken       = "ANDAMIO_SERVER_TOKEN"
	envServerAuthority   = "ANDAMIO_SERVER_AUTHORITY"
	envServerCertificate = "ANDAMIO_SERVER_CERTIFICATE"
	envServerKey         = "ANDAMIO_SERVER_KEY"
)

func (f *far) flags(root *cobra.Command) {
	p := root.PersistentFlags()
	p.StringVar(&f.address, optionServer, "", "address of the server (andamio serve --api) where the workspace is, such as https://andamio.ribera.test:8470 (or in the environment: "+envServer+")")
	p.StringVar(&f.token, optionToken, "", "file of the token that is shown to it (or the token in the environment: "+envServerToken+")")
	p.StringVar(&f.authority, optionAuthority, "", "file of the authorities that vouch for it (PEM; default: those that this machine trusts)")
}

// The options that say at which server the workspace is.
const (
	optionServer    = "server"
	optionToken     = "server-token"
	optionAuthority = "server-authority"
)

var farOptions = []string{optionServer, optionToken, optionAuthority}

// isFar reports that the workspace is at a server.
func (s *shared) isFar() bool {
	if s.visit != nil {
		return false
	}
	if s.far.address == "" {
		s.far.address = os.Getenv(envServer)
	}
	return s.far.address != ""
}

// secret is the token that is shown to the server.
func (f *far) secret() (string, error) {
	if f.token != "" {
		text, err := passwordIn(f.token)
		return text, fault.Default(fault.Invalid, err)
	}
	if text := os.Getenv(envServerToken); text != "" {
		return text, nil
	}
	return "", usageError{errors.New("show a token to the server: name its file with --server-token, or give it in the environment as " + envServerToken + "; andamio token sign-in --server makes one")}
}

// server is the server, as it is known.
func (f *far) server() (*serverAt, error) {
	authority := f.authority
	if authority == "" {
		authority = os.Getenv(envServerAuthority)
	}
	return newServerAt(f.address, authority, os.Getenv(envServerCertificate), os.Getenv(envServerKey))
}

// runThere has the command run at the server, joined to what is here.
func (s *shared) runThere(cmd *cobra.Command, files []session.File) error {
	ctx := cmd.Context()
	at, err := s.far.server()
	if err != nil {
		return err
	}
	secret, err := s.far.secret()
	if err != nil {
		return err
	}
	c, err := upgrade.Ask(ctx, session.Protocol, at.url+"/session", nil, secret, at.trust)
	var no *upgrade.Refused
	if errors.As(err, &no) {
		return refusedAs(no)
	}
	if err != nil {
		return err
	}
	asked := session.Asked{Words: withoutServer(s.words), Files: files, Environment: s.told(cmd), Terminal: session.Terminal{In: isTerminal(s.in), Out: isTerminal(s.out), Err: isTerminal(s.err)}}
	asked.Terminal.W, asked.Terminal.H = s.size()
	here := session.Here{In: s.in, Out: s.out, Err: s.err}
	keys := &keyboard{s: s}
	defer keys.restored()
	here.Raw = keys.raw
	sizes := make(chan session.Size, 1)
	here.Resized = sizes
	if asked.Terminal.Out {
		defer s.resized(func(w, h int) {
			select {
			case sizes <- session.Size{W: w, H: h}:
			case <-ctx.Done():
			}
		})()
	}
	status, err := session.Ask(ctx, c, asked, here)
	if err != nil && keys.restore != nil { // nobody else takes back what was done to the terminal
		fmt.Fprint(s.out, asItWas)
	}
	if err != nil {
		return err
	}
	if status != exitDone {
		return exited(status) // which has been said there
	}
	return nil
}

// asItWas is what a terminal is told that screens went away from: the lines that were there before, the cursor, no mouse, no marks at what is pasted, no colours.
const asItWas = ansi.ResetModeAltScreenSaveCursor + ansi.SetModeTextCursorEnable + ansi.ResetModeMouseNormal + ansi.ResetModeMouseButtonEvent + ansi.ResetModeMouseAnyEvent +
	ansi.ResetModeMouseExtSgr + ansi.ResetModeBracketedPaste + ansi.ResetStyle

// keyboard has what is typed come key by key or by lines, as the server wishes.
type keyboard struct {
	s       *shared
	restore func()
}

func (k *keyboard) raw(on bool) error {
	if !isTerminal(k.s.in) || on == (k.restore != nil) {
		return nil
	}
	if !on {
		k.restored()
		return nil
	}
	restore, err := k.s.raw()
	k.restore = restore
	return err
}

func (k *keyboard) restored() {
	if k.restore != nil {
		k.restore()
		k.restore = nil
	}
}

// told are the variables that a command reads: what sort of terminal there is, and what a site is connected with.
func (s *shared) told(cmd *cobra.Command) map[string]string {
	names := []string{"TERM", "COLORTERM", "NO_COLOR"}
	if of := nameOf(cmd); of == "site add" || of == "site rotate" {
		names = append(names, secretVariables()...)
	}
	out := map[string]string{}
	for _, name := range names {
		if v := os.Getenv(name); v != "" {
			out[name] = v
		}
	}
	return out
}
