package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"andamio/internal/app"
	"andamio/internal/core/fault"
	"andamio/internal/service/workspace"
	"andamio/internal/session"
)

// Where the workspace is at a server, commands run there, as those do that are about nothing but what is at hand, here. What a command names of files comes along, and what it
// writes comes back; so each word that names one is listed.

// atHome are the commands that ask no workspace.
var atHome = []string{"explain", "types", "pack", "unpack", "editor", "place", "demo", "account rates check", "calendar check", "front check", "hook check", "level check", "quota check", "reaction check",
	"team check", "threshold check", "threshold shipped", "token sign-in", "completion bash", "completion fish", "completion powershell", "completion zsh", "help"}

// notFromAfar are the commands that are for whoever keeps the machine where the workspace is, and those of which a file stays in use there.
var notFromAfar = []string{"sandbox", "sandbox drift", "sandbox load", "serve", "work", "backup", "restore", "workspace", "workspace copy", "workspace join", "credentials", "credentials key", "credentials lock", "names",
	"notices", "measure forward", "front answer", "offer make", "offer publish", "offer check"}

// fileOptions are the options of commands that name files, with what is done with these.
var fileOptions = map[string]session.Use{"output": session.Writes, "inputs": session.Reads, "estate": session.Reads, "template": session.Template, "file": session.Reads, "holidays": session.Reads,
	"declared": session.Reads, "recorded": session.Reads, "observed": session.Reads, "certificate": session.Reads, "authority": session.Reads, "key": session.Reads}

// secretFile marks options that name a secret's file.
const secretFile = "-file"

// fileWords are the words of commands that name files, by their places.
var fileWords = map[string]map[int]session.Use{
	"plan": {0: session.Template}, "check": {0: session.Template}, "diff": {1: session.Template}, "run": {0: session.Reads}, "rehearse": {0: session.Reads}, "export": {0: session.Reads},
	"capture": {1: session.WritesNew}, "account export": {0: session.Writes}, "records export": {0: session.Writes}, "records import": {0: session.Reads}, "estate import": {0: session.Reads},
	"estate show": {0: session.Reads}, "mapping": {0: session.Reads}, "threshold preview": {0: session.Reads}, "package export": {2: session.Writes}, "package import": {0: session.Reads},
	"account rates set": {0: session.Reads}, "calendar set": {0: session.Reads}, "decide rules set": {0: session.Reads}, "front set": {0: session.Reads}, "hook set": {0: session.Reads}, "level set": {0: session.Reads},
	"quota set": {0: session.Reads}, "reaction set": {0: session.Reads}, "team set": {0: session.Reads}, "threshold set": {0: session.Reads},
	"copy": {0: session.Reads, 1: session.Writes},
}

// nameOf is a command as it is written, without the program's name.
func nameOf(cmd *cobra.Command) string {
	_, name, _ := strings.Cut(cmd.CommandPath(), " ")
	return name
}

// secretVariables are those of the environment that a site may be connected with.
func secretVariables() []string {
	var out []string
	for _, d := range workspace.Drivers() {
		for _, f := range d.Fields() {
			if f.Secret && !f.File {
				out = append(out, environment(&f))
			}
		}
	}
	return out
}

// whereTheWorkspaceIs has each command run where the workspace is.
func (s *shared) whereTheWorkspaceIs(cmd *cobra.Command) {
	for _, below := range cmd.Commands() {
		s.whereTheWorkspaceIs(below)
	}
	do := cmd.RunE
	if do == nil {
		return
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		switch {
		case s.visit != nil:
			return s.visited(cmd, args, do)
		case !s.isFar() || slices.Contains(atHome, nameOf(cmd)):
			return do(cmd, args)
		case slices.Contains(notFromAfar, nameOf(cmd)):
			return fault.Refusedf("andamio %s is for whoever keeps the machine where the workspace is, and is run there, without --server", nameOf(cmd))
		case s.workspace != "":
			return usageError{fmt.Errorf("--workspace names one of this machine, and --server one of another")}
		}
		files, err := filesOf(cmd, args)
		if err != nil {
			return err
		}
		return s.runThere(cmd, files)
	}
}

// word is one of a command that names a file.
type word struct {
	text string
	use  session.Use
	set  func(text string) error
}

// wordsOf are the words of a command that name files.
func wordsOf(cmd *cobra.Command, args []string) []word {
	var out []word
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		use, named := fileOptions[f.Name]
		if nameOf(cmd) == "" && named { // the screens keep presets
			use = session.Works
		}
		if named = named || strings.HasSuffix(f.Name, secretFile); named && f.Value.Type() == "string" && f.Value.String() != "" {
			out = append(out, word{f.Value.String(), use, f.Value.Set})
		}
	})
	for i, use := range fileWords[nameOf(cmd)] {
		if i < len(args) && !isElsewhere(nameOf(cmd), args[i]) {
			out = append(out, word{args[i], use, func(text string) error { args[i] = text; return nil }})
		}
	}
	return out
}

// isElsewhere reports that a word which may name a file names something else: a run by its number, or a file on an instance.
func isElsewhere(command, text string) bool {
	switch command {
	case "export":
		_, err := strconv.ParseInt(text, 10, 64)
		return err == nil
	case "copy":
		of, _, is := strings.Cut(text, ":")
		return is && !strings.HasPrefix(text, "/") && !strings.HasPrefix(text, ".") && of != ""
	}
	return false
}

// withoutServer are the words of a command without those that say at which server it is run.
func withoutServer(words []string) []string {
	var out []string
	for i := 0; i < len(words); i++ {
		if words[i] == "--" {
			return append(out, words[i:]...)
		}
		name, _, both := strings.Cut(strings.TrimPrefix(words[i], "--"), "=")
		switch {
		case !strings.HasPrefix(words[i], "--") || !slices.Contains(farOptions, name):
			out = append(out, words[i])
		case !both:
			i++
		}
	}
	return out
}

// filesOf are the files that words of a command name here.
func filesOf(cmd *cobra.Command, args []string) ([]session.File, error) {
	var out []session.File
	for _, w := range wordsOf(cmd, args) {
		f, err := session.Named(w.text, w.use)
		if err != nil {
			return nil, err
		}
		out = append(out, f)
	}
	return out, nil
}

// visited runs a command for whoever asked from elsewhere: on files that came with it, and on no others.
func (s *shared) visited(cmd *cobra.Command, args []string, do func(*cobra.Command, []string) error) error {
	name := nameOf(cmd)
	if slices.Contains(notFromAfar, name) || slices.Contains(atHome, name) {
		return fault.Refusedf("andamio %s is not run from elsewhere", name)
	}
	for _, option := range append([]string{"workspace"}, farOptions...) {
		if f := cmd.Flags().Lookup(option); f != nil && f.Changed {
			return fault.Refusedf("--%s is not for a server to be told", option)
		}
	}
	if repo := cmd.Flags().Lookup("repo"); repo != nil && repo.Changed && !strings.HasPrefix(repo.Value.String(), "https://") {
		return fault.Refusedf("a repository is read by the server, which takes the address of one alone: https://…")
	}
	if name == "export" && cmd.Flag("output").Value.String() == "" {
		return usageError{fmt.Errorf("say --output FILE: the picture is drawn elsewhere")}
	}
	args = slices.Clone(args)
	for _, w := range wordsOf(cmd, args) {
		at, came := s.visit.File(w.text)
		if !came {
			return fault.Invalidf("%s did not come along", w.text)
		}
		if err := w.set(at); err != nil {
			return err
		}
	}
	return do(cmd, args)
}

// Receive runs what somebody asks for who is elsewhere, and returns with which status it ended.
func Receive(a *app.App, v *session.Visit) (status int) {
	s := &shared{in: v.In, out: v.Out, err: v.Err, visit: v, lent: a.Saying(v.Words)}
	root := newRoot(s)
	s.workspace = a.Opened().Dir
	defer func() {
		if x := recover(); x != nil {
			a.Log.Error("a command failed as none should", "words", v.Asked.Words, "err", x)
			status = s.status(fmt.Errorf("it failed as it never should"), root.CommandPath())
		}
	}()
	return s.execute(v.Context(), root, v.Asked.Words)
}
