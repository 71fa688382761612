// Package tui is the full-screen application: a frame with tabs, and one folder for each view.
//
// The screens call the services of package app and nothing below them. Everything they show is pushed: the frame looks
// for new runs each second, and a run's events arrive as they are journalled.
package tui

import (
	"bytes"
	"context"
	"io"
	"runtime"
	"runtime/debug"
	"sync"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"andamio/internal/app"
	"andamio/internal/service/templates"
	"andamio/internal/tui/catalogue"
	"andamio/internal/tui/deploy"
	"andamio/internal/tui/design"
	"andamio/internal/tui/govern"
	"andamio/internal/tui/move"
	"andamio/internal/tui/operate"
	"andamio/internal/tui/place"
	"andamio/internal/tui/reconcile"
	"andamio/internal/tui/sites"
	"andamio/internal/tui/today"
	"andamio/internal/tui/view"
)

// Options say how the screens look and what they open.
type Options struct {
	// Open opens the template to design with; nil for none.
	Open func() (*templates.Template, error)
	// ASCII draws with ASCII characters only; Light uses colours for a light background without asking the terminal.
	ASCII, Light bool
	// In and Out replace the terminal, for tests.
	In  io.Reader
	Out io.Writer
	// Size fixes the size, for tests without a terminal.
	W, H int
	// Remote says that whoever looks came from elsewhere: nothing is written to files for them here.
	Remote bool
}

// framesPerSecond bounds how often the screen is drawn; twice the usual, since a key waits half a frame on average.
const framesPerSecond = 120

// framesElsewhere is as often as somebody is drawn to who is elsewhere: what is between takes longer than a frame, and many look at once.
const framesElsewhere = 30

// Run shows the screens until the user leaves. It returns the number of a run that goes on, or 0.
func Run(ctx context.Context, a *app.App, o Options) (int64, error) {
	options := []tea.ProgramOption{tea.WithContext(ctx), tea.WithFPS(framesPerSecond)}
	if o.In != nil {
		options = append(options, tea.WithInput(o.In))
	}
	if o.Out != nil {
		options = append(options, tea.WithOutput(o.Out))
	}
	if o.W > 0 {
		options = append(options, tea.WithWindowSize(o.W, o.H))
	}
	TuneRuntime()
	a = a.By(app.ByScreen)
	m := newFrame(ctx, a, o)
	program := tea.NewProgram(m, options...)
	go func() {
		failed := func(text string) { program.Send(view.Notice{Text: text, Bad: true}) }
		err := a.KeepServed(m.ctx, func(f app.Firing) {
			if f.State == app.FiringFailed {
				failed(app.DueWords(f.Kind, f.Subject, nil) + ": " + f.Note)
			}
		})
		if err != nil && m.ctx.Err() == nil {
			failed(err.Error())
		}
	}()
	_, err := program.Run()
	return m.goesOn(), err
}

// softLimit is from how much memory on it is collected as often as usual.
const softLimit = 250 << 20

// TuneRuntime spares late frames. Memory is collected rarely: the heap is small and a pause is seen. A large run has a large heap, and there it is memory that is
// spared. And more goroutines run at once than there are processors: what goes on beside the screen takes all of these for some milliseconds at a time, and the
// kernel lets a key have its turn between sooner than the scheduler of one process does.
func TuneRuntime() {
	debug.SetGCPercent(400)
	debug.SetMemoryLimit(softLimit)
	sharesTime()
}

// sharesTime has more goroutines run at once than there are processors, once and for all: to draw takes milliseconds, and so does much that goes on beside.
var sharesTime = sync.OnceFunc(func() { runtime.GOMAXPROCS(max(runtime.GOMAXPROCS(0), 2*runtime.NumCPU())) })

// New makes the screens for a program that runs elsewhere, and how it is to run.
func New(ctx context.Context, a *app.App, o Options) (tea.Model, []tea.ProgramOption) {
	frames := framesPerSecond
	if o.Remote {
		frames = framesElsewhere
		sharesTime() // others are served beside
	}
	return newFrame(ctx, a.By(app.ByScreen), o), []tea.ProgramOption{tea.WithContext(ctx), tea.WithFPS(frames)}
}

// Elsewhere is the terminal of somebody who is elsewhere.
type Elsewhere struct {
	In  io.Reader
	Out io.Writer
	// Environment says what sort of terminal it is, as NAME=VALUE.
	Environment []string
	// Size is how large it is, and Resized tells each time that this may be otherwise.
	Size    func() (w, h int)
	Resized <-chan struct{}
}

// typedLines begins a line anew after each one: where no terminal is at hand the screens count on that, and one that gives keys as they are typed does not.
type typedLines struct{ io.Writer }

func (l typedLines) Write(b []byte) (int, error) {
	if _, err := l.Writer.Write(bytes.ReplaceAll(b, []byte("\n"), []byte("\r\n"))); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Show shows the screens at a terminal elsewhere, which gives keys as they are typed, until whoever sits there leaves.
func Show(ctx context.Context, a *app.App, o Options, at Elsewhere) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	o.Remote = true
	o.W, o.H = at.Size()
	m, options := New(ctx, a, o)
	profile := colorprofile.Env(at.Environment)
	program := tea.NewProgram(m, append(options, tea.WithInput(at.In), tea.WithOutput(typedLines{at.Out}), tea.WithEnvironment(at.Environment), tea.WithColorProfile(profile), tea.WithWindowSize(o.W, o.H),
		tea.WithoutSignalHandler(), tea.WithFilter(func(_ tea.Model, msg tea.Msg) tea.Msg {
			if _, is := msg.(tea.SuspendMsg); is { // this process serves others too
				return tea.ResumeMsg{}
			}
			return msg
		}))...)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-at.Resized:
				w, h := at.Size()
				program.Send(tea.WindowSizeMsg{Width: w, Height: h})
			}
		}
	}()
	_, err := program.Run()
	return err
}

func newFrame(ctx context.Context, a *app.App, o Options) *frame {
	ctx, cancel := context.WithCancel(ctx)
	f := &frame{ctx: ctx, cancel: cancel, app: a, options: o, light: o.Light, profile: colorprofile.TrueColor, w: o.W, h: o.H}
	if o.Remote {
		f.pace = elsewhere.join(ctx)
	}
	f.dress()
	if !a.MayRead() { // whoever asks for services sees what concerns them
		f.narrow = true
		f.views = []view.View{catalogue.New(ctx, a), govern.Mine(ctx, a)}
		return f
	}
	f.views = []view.View{today.New(a), sites.New(ctx, a), design.New(ctx, a, o.Open), place.New(), deploy.New(ctx, a), operate.New(ctx, a), move.New(ctx, a), reconcile.New(ctx, a), govern.New(ctx, a)}
	return f
}
