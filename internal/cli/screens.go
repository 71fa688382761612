package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/service/sites"
	"andamio/internal/service/templates"
	"andamio/internal/tui"
)

type screenOpts struct {
	ascii, light, demo, alone bool
	template                  string
}

func addScreenFlags(cmd *cobra.Command) {
	cmd.Flags().Bool("ascii", false, "draw with ASCII characters only")
	cmd.Flags().Bool("light", false, "colours for a light background")
	cmd.Flags().String("template", "", "template to design with: a file, a folder or an archive")
}

func screenOptions(cmd *cobra.Command) screenOpts {
	var o screenOpts
	o.ascii, _ = cmd.Flags().GetBool("ascii")
	o.light, _ = cmd.Flags().GetBool("light")
	o.template, _ = cmd.Flags().GetString("template")
	return o
}

// keepAlive is how often the screens of the demo ask the stand-ins something, so that they do not end for idleness.
const keepAlive = time.Minute

// screensThere shows the screens to whoever asked from elsewhere.
func (s *shared) screensThere(ctx context.Context, a *app.App, o screenOpts) error {
	if !isTerminal(s.in) || !isTerminal(s.out) {
		return usageError{errors.New("the screens are for a terminal; name a command")}
	}
	a = a.By(app.ByScreen)
	if err := a.Entered(ctx, s.visit.From); err != nil {
		return err
	}
	options := tui.Options{ASCII: o.ascii, Light: o.light}
	if o.template != "" {
		options.Open = func() (*templates.Template, error) {
			return templates.OpenTemplate(ctx, s.placeOf([]string{o.template}))
		}
	}
	restore, err := s.raw()
	if err != nil {
		return err
	}
	defer restore()
	at := tui.Elsewhere{In: s.in, Out: s.out, Size: s.size, Resized: s.visit.Resized()}
	for name, value := range s.visit.Asked.Environment {
		at.Environment = append(at.Environment, name+"="+value)
	}
	return tui.Show(ctx, a, options, at)
}

// screens opens the full-screen application.
func (s *shared) screens(ctx context.Context, o screenOpts) error {
	a, err := s.open(ctx)
	if err != nil {
		return err
	}
	defer a.Close()
	if s.visit != nil {
		return s.screensThere(ctx, a, o)
	}
	options := tui.Options{ASCII: o.ascii, Light: o.light, In: s.in, Out: s.out}
	switch {
	case o.template != "":
		options.Open = func() (*templates.Template, error) {
			return templates.OpenTemplate(ctx, s.placeOf([]string{o.template}))
		}
	case o.demo:
		options.Open = templates.DemoTemplate
	}
	if o.demo {
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		if !o.alone {
			go s.people(ctx, a)
		}
		go func() {
			for sites.StandInsRun(s.workspace) {
				_, _ = a.Estate(ctx)
				select {
				case <-ctx.Done():
					return
				case <-time.After(keepAlive):
				}
			}
		}()
	}
	goesOn, err := tui.Run(ctx, a, options)
	if goesOn != 0 {
		again := "andamio"
		if o.demo {
			again = "andamio demo"
		}
		fmt.Fprintf(s.out, "run %d goes on; %s shows it again\n", goesOn, again)
	}
	return err
}
