package tui

import (
	"errors"
	"fmt"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/health"
	"andamio/internal/core/run"
	"andamio/internal/service/reconcile"
	"andamio/internal/store"
	"andamio/internal/tui/part"
	"andamio/internal/tui/tuitest"
	"andamio/internal/tui/view"
)

// things are some of each sort.
var things = []reconcile.Thing{
	{Kind: reconcile.ASite, What: "site", Name: "vega", Where: "private", ID: "vega", Addresses: []string{"https://vega.ribera.test:8443"}},
	{Kind: reconcile.ADeployment, What: "deployment", Name: "flood-watch", Where: "deployment 1, standing", ID: "1", Deployment: 1},
	{Kind: reconcile.AResource, What: "instance", Name: "contacts-host-1", Where: "vega, flood-watch", ID: "contacts-host-1", Deployment: 1, Addresses: []string{"10.20.5.1", "127.8.17.4"}},
	{Kind: reconcile.ARun, What: "run", Name: "run 7", Where: "raise flood-watch, standing", ID: "7", Deployment: 1},
	{Kind: reconcile.AFinding, What: "finding", Name: "try-66", Where: "unmanaged instance at presa", ID: "f-1"},
	{Kind: reconcile.ATemplate, What: "node template", Name: "contacts-host", Where: "flood-watch", ID: "contacts-host"},
}

func finding() *finder {
	q := &finder{field: view.NewField("", mostTyped)}
	q.take(gathered{to: q, all: things})
	return q
}

// keyed gives an overlay keys by their names, and what begins with "type:" as text.
func keyed(o overlay, text string, names ...string) (overlay, tea.Cmd) {
	var cmd tea.Cmd
	for _, msg := range tuitest.Typed(text) {
		o, cmd = o.hear(msg)
	}
	for _, name := range names {
		if o == nil {
			break
		}
		o, cmd = o.hear(tuitest.Key(name))
	}
	return o, cmd
}

func TestTheFinderGoesToWhatIsLit(t *testing.T) {
	for _, c := range []struct {
		text  string
		names []string
		want  string
	}{
		{"vega", []string{"enter"}, "vega"},
		{"contacts", []string{"enter"}, "contacts-host"},
		{"contacts", []string{"down", "enter"}, "contacts-host-1"},
		{"contacts", []string{"down", "down", "down", "up", "enter"}, "contacts-host"},
		{"127.8.17", []string{"enter"}, "contacts-host-1"},
		{"instance presa", []string{"enter"}, "try-66"},
		{"run 7", []string{"enter"}, "run 7"},
		{"flood standing deployment", []string{"enter"}, "flood-watch"},
	} {
		left, cmd := keyed(finding(), c.text, c.names...)
		require.Nil(t, left, c.text)
		require.NotNil(t, cmd, c.text)
		assert.Equal(t, c.want, cmd().(view.Show).Thing.Name, c.text)
	}
}

func TestTheFinderSaysWhatItDoes(t *testing.T) {
	waiting := &finder{field: view.NewField("", mostTyped)}
	assert.Contains(t, overlaid(waiting, 120, 40), "gathering what there is to find")
	left, cmd := keyed(waiting, "vega", "enter")
	assert.NotNil(t, left, "it cannot go anywhere yet")
	assert.Nil(t, cmd)
	waiting.take(gathered{to: waiting, all: things})
	assert.Contains(t, overlaid(waiting, 120, 40), "▐ site", "what was typed meanwhile is looked for")
	broken := &finder{field: view.NewField("", mostTyped)}
	broken.take(gathered{to: broken, err: errors.New("the database is locked")})
	assert.Contains(t, overlaid(broken, 120, 40), "the database is locked")
	q := finding()
	assert.Contains(t, overlaid(q, 120, 40), "There are 6")
	o, _ := keyed(q, "nothing has this")
	assert.Contains(t, overlaid(o, 120, 40), "nothing has that")
	o, cmd = keyed(o, "", "enter")
	assert.NotNil(t, o)
	assert.Nil(t, cmd)
	o, _ = keyed(o, "", "ctrl+u")
	o, _ = o.hear(tea.PasteMsg{Content: "127.8.17.4"})
	text := overlaid(o, 120, 40)
	assert.Contains(t, text, "1 found")
	assert.Regexp(t, `instance +contacts-host-1 +10\.20\.5\.1 127\.8\.17\.4 +vega, flood-watch`, text)
	for _, leave := range []string{"esc", "ctrl+f"} {
		left, cmd := keyed(finding(), "vega", leave)
		assert.Nil(t, left)
		assert.Nil(t, cmd)
	}
	for w := 10; w < 200; w += 13 {
		assert.NotPanics(t, func() { overlaid(o, w, w/4+3) })
	}
}

func TestALongListScrolls(t *testing.T) {
	q := &finder{field: view.NewField("", mostTyped)}
	var many []reconcile.Thing
	for i := range 200 {
		many = append(many, reconcile.Thing{Kind: reconcile.ARun, What: "run", Name: fmt.Sprintf("run %03d", i), ID: fmt.Sprint(i)})
	}
	q.take(gathered{to: q, all: many})
	o, _ := keyed(q, "run")
	assert.NotContains(t, overlaid(o, 100, 24), "run 150")
	for range 15 {
		o, _ = keyed(o, "", "pgdown")
	}
	text := overlaid(o, 100, 24)
	assert.Contains(t, text, "▐ run")
	assert.Contains(t, text, "run 150")
	for range 30 {
		o, _ = keyed(o, "", "pgdown")
	}
	_, cmd := keyed(o, "", "enter")
	assert.Equal(t, "run 199", cmd().(view.Show).Thing.Name, "no farther than the last")
}

func TestWhatIsFoundIsShownInItsView(t *testing.T) {
	f, _ := framed(t, 160, 47)
	for kind, name := range map[reconcile.ThingKind]string{reconcile.ASite: "Sites", reconcile.ATemplate: "Design", reconcile.ARun: "Deploy", reconcile.ADeployment: "Operate", reconcile.AResource: "Operate", reconcile.AFinding: "Reconcile", reconcile.ARecord: "Reconcile"} {
		f.Update(view.Show{Thing: reconcile.Thing{Kind: kind, ID: "x"}})
		assert.Equal(t, name, f.view().Name(), kind)
	}
	for _, kind := range reconcile.ThingKinds {
		assert.NotEmpty(t, digitOf[kind], kind)
	}
	send(f, keys("ctrl+f")...)
	assert.Contains(t, text(f), "find anywhere")
	send(f, keys("esc")...)
	assert.NotContains(t, text(f), "find anywhere")
}

func TestTheBarIsThatOfTheMode(t *testing.T) {
	f, _ := framed(t, 160, 47)
	bottom := func() string {
		all := lines(f)
		return all[len(all)-1]
	}
	assert.Regexp(t, `^ ↑↓ item +enter go there .*w why +a acts +ctrl\+f find +\? keys`, bottom())
	send(f, keys("?")...)
	assert.Regexp(t, `^ ↑↓ scroll +esc go back\s*$`, bottom(), "of the note that lies over it")
	send(f, keys("esc", "ctrl+f")...)
	assert.Contains(t, bottom(), "ctrl+w delete a word")
	assert.NotContains(t, bottom(), "w why", "which would be typed")
	send(f, keys("esc", "1", "n")...)
	assert.Contains(t, bottom(), "enter goes on")
	assert.NotContains(t, bottom(), "? keys")
	send(f, keys("enter")...)
	assert.Contains(t, bottom(), "ctrl+z take back", "of the text that is asked for")
}

func TestEveryKeyIsTold(t *testing.T) {
	f, _ := framed(t, 160, 60)
	for _, v := range f.views {
		f.show(v.Digit())
		send(f, keys("?")...)
		screen := text(f)
		for _, k := range append(v.Keys(), f.keys()...) {
			assert.NotEmpty(t, k.Help().Desc, "%s in %s", k.Help().Key, v.Name())
			require.NotEmpty(t, k.Says, "%s in %s", k.Help().Key, v.Name())
			assert.Contains(t, screen, k.Says[:min(len(k.Says), 40)], "%s in %s", k.Help().Key, v.Name())
		}
		send(f, keys("esc")...)
	}
}

func TestTabsAreNeverCut(t *testing.T) {
	f, _ := framed(t, 80, 24)
	f.Update(view.Runs{Runs: []store.Run{{ID: 1, Deployment: 1, Name: "a", State: run.Failed, Created: time.Now(), Ended: time.Now()}, {ID: 2, Deployment: 2, Name: "b", State: run.Failed, Created: time.Now(), Ended: time.Now()}}})
	for w := smallWidth; w < 130; w++ {
		f.w = w
		for i, v := range f.views {
			f.current = i
			first := lines(f)[0]
			assert.LessOrEqual(t, part.Width(first), w)
			last := f.tabs[len(f.tabs)-1]
			assert.LessOrEqual(t, last.X+last.W, w, "%d columns", w)
			assert.Contains(t, first, v.Digit()+" "+v.Name(), "%d columns: the current one has its name", w)
			for _, other := range f.views {
				assert.Contains(t, first, other.Digit(), "%d columns", w)
			}
		}
	}
}

func TestTheHeaderSaysWhatIsNotWell(t *testing.T) {
	f, _ := framed(t, 180, 47)
	well := health.Deployment{ID: 1, Name: "flood-watch", Status: run.Standing, Word: "standing"}
	bad := health.Deployment{ID: 2, Name: "lab", Status: run.Failed, Word: "2 not well", Worst: "store silent"}
	f.Update(view.Health{All: []health.Deployment{well}})
	assert.NotContains(t, lines(f)[0], "not well")
	f.Update(view.Health{All: []health.Deployment{well, bad}})
	assert.Contains(t, lines(f)[0], "✕ lab 2 not well")
	other := bad
	other.ID, other.Name = 3, "copy"
	f.Update(view.Health{All: []health.Deployment{well, bad, other}})
	assert.Contains(t, lines(f)[0], "✕ 2 deployments not well")
	f.Update(view.Runs{Runs: []store.Run{{ID: 9, Deployment: 2, Name: "lab", Purpose: "retire lab", State: run.Standing, Created: time.Now(), Ended: time.Now()}}})
	assert.Contains(t, lines(f)[0], "run 9 ▁ retired", "and a run that took everything away left nothing standing")
}
