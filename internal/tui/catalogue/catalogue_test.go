package catalogue

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/decide"
	"andamio/internal/core/money"
	"andamio/internal/core/offer"
	"andamio/internal/core/quota"
	"andamio/internal/service/offers"
	"andamio/internal/service/requests"
	"andamio/internal/tui/part"
	"andamio/internal/tui/view"
)

func drawn(v *View, w, h int) string {
	c := part.NewCanvas(part.NewLook(false, false, colorprofile.TrueColor), w, h)
	v.Draw(c, part.Rect{X: 0, Y: 0, W: w, H: h}, time.Now())
	return ansi.Strip(c.String())
}

func anOffer(name, title string, questions ...offer.Question) offers.Offer {
	o := offers.Offer{Number: 2, State: offers.Published}
	o.Name, o.Title, o.Category, o.Note, o.Questions = name, title, "maps", "Nobody is warned by it.", questions
	return o
}

func number2(n float64) *float64 { return &n }

// some is the view with two offers.
func some(t *testing.T) *View {
	v := New(t.Context(), nil)
	v.Update(listed{all: []offers.Offer{anOffer("map", "A map", offer.Question{Input: "fronts", Ask: "How many fronts?", Help: "One is enough.", From: number2(1), To: number2(3), Default: 1.0},
		offer.Question{Input: "memory", Ask: "How large?", Choices: []offer.Choice{{Value: "2 GiB", Title: "small"}, {Value: "4 GiB", Title: "middling"}}, Default: "2 GiB"},
		offer.Question{Input: "first", Ask: "Which level first?", More: true}), anOffer("pool", "Workers")}})
	return v
}

func comesTo(v *View, change func(*requests.Foreseen)) {
	f := &requests.Foreseen{Name: "map-1", Quote: &offers.Quote{Wrong: []offer.Wrong{{Ask: "How many fronts?", Why: "9 is not offered"}}}}
	change(f)
	v.Update(came{n: v.asked, foreseen: f})
}

func press(v *View, names ...string) {
	for _, n := range names {
		view.Press(v.Keys(), n)
	}
}

func TestQuestionsAreAnsweredWithTheArrows(t *testing.T) {
	v := some(t)
	text := drawn(v, 160, 47)
	for _, want := range []string{"2 offers for you", "How many fronts?", "One is enough.", "small · 2 GiB", "2 GiB, 4 GiB", "more: 1 that need not be answered", "it is being worked out"} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "Which level first?")
	press(v, "tab", "right", "right", "right", "right", "down", "right")
	assert.Equal(t, offer.Answers{"fronts": "3", "memory": "4 GiB"}, v.given())
	press(v, "left", "up", "left", "m", "down", "down")
	assert.Equal(t, offer.Answers{"fronts": "2", "memory": "2 GiB"}, v.given())
	assert.Contains(t, drawn(v, 160, 47), "Which level first?")
	cmd, used := view.Press(v.Keys(), "e")
	require.True(t, used, "what only the template bounds is written")
	act := cmd().(view.Prompt).Act
	assert.Equal(t, "Which level first?", act.Name)
	act.Answer("level 3 m")
	assert.Equal(t, "level 3 m", v.given()["first"])
	press(v, "tab", "down")
	assert.Equal(t, "pool", v.selected().Name)
	assert.Empty(t, v.given(), "another offer has its own answers")
	assert.True(t, v.Find("A MAP"))
	assert.Equal(t, "2", v.given()["fronts"], "and what was answered is there when one comes back")
	assert.False(t, v.Find("nothing of that"))
}

func TestItIsAskedForWhenItCanBeHad(t *testing.T) {
	v := some(t)
	refused := func(says string) {
		t.Helper()
		cmd, _ := view.Press(v.Keys(), "enter")
		n := cmd().(view.Notice)
		assert.True(t, n.Bad)
		assert.Contains(t, n.Text, says)
		assert.Nil(t, v.Actions())
	}
	refused("it is being worked out")
	comesTo(v, func(*requests.Foreseen) {})
	refused("How many fronts? 9 is not offered")
	comesTo(v, func(f *requests.Foreseen) { f.Quote = &offers.Quote{Cannot: "no site has room"} })
	refused("no site has room")
	assert.Contains(t, drawn(v, 160, 47), "no site has room")
	comesTo(v, func(f *requests.Foreseen) { f.Quote, f.Over = &offers.Quote{}, "the quota map is full" })
	refused("the quota map is full")
	v.Update(came{n: v.asked, err: errors.New("no site answers")})
	refused("no site answers")
	v.Update(came{n: v.asked - 1, foreseen: &requests.Foreseen{Name: "old"}})
	refused("no site answers")
	comesTo(v, func(f *requests.Foreseen) {
		f.Quote = &offers.Quote{Seconds: 90}
		f.Decision = decide.Decision{Then: decide.Approve, Say: "Small ones are."}
	})
	cmd, _ := view.Press(v.Keys(), "enter")
	act := cmd().(view.Prompt).Act
	assert.Equal(t, "ask for A map", act.Name)
	assert.Equal(t, "Small ones are. It serves after about 1m30s, and is called map-1.", act.Effect)
	assert.Len(t, v.Actions(), 1)
	for then, says := range map[decide.Then]string{decide.Ask: "after a yes", decide.Refuse: "It is refused by rule"} {
		v.foreseen.Decision.Then = then
		assert.Contains(t, v.outlook(), says)
	}
}

func TestWithoutOffersNothingIsClaimed(t *testing.T) {
	v := New(t.Context(), nil)
	assert.Contains(t, drawn(v, 100, 30), "looking")
	v.Update(listed{})
	assert.Contains(t, drawn(v, 100, 30), "nothing is offered to you")
	assert.Nil(t, v.Keys())
	assert.Nil(t, v.Actions())
	assert.Contains(t, v.Why().Lines[0].Text, "Nothing is offered to you")
	assert.Equal(t, view.Notice{Text: "broken", Bad: true}, v.Update(listed{err: errors.New("broken")})())
}

// TestItFitsEverywhereWithMany draws many offers, questions and sites at every size.
func TestItFitsEverywhereWithMany(t *testing.T) {
	v := some(t)
	for range 40 {
		v.offers = append(v.offers, anOffer("more", strings.Repeat("a long title ", 6)))
		v.offers[0].Questions = append(v.offers[0].Questions, offer.Question{Input: "x", Ask: strings.Repeat("a long question ", 5)})
	}
	comesTo(v, func(f *requests.Foreseen) {
		f.Quote = &offers.Quote{PerHour: money.Of(1), Currency: "cr", Sites: []offers.AtSite{{Site: "vega", PerHour: money.Of(1)}, {Site: "presa", Cannot: "no room\nat all"}}}
		f.Left = []quota.Use{{Account: "map#2026-11", Measure: quota.Cores, Most: 4, Used: 6}}
	})
	for _, size := range [][2]int{{20, 6}, {80, 24}, {160, 47}, {300, 90}} {
		for _, at := range []int{0, 20, len(v.offers) - 1} {
			v.at = at
			text := drawn(v, size[0], size[1])
			assert.LessOrEqual(t, len(strings.Split(text, "\n")), size[1])
		}
	}
	v.offers[0].Questions = v.offers[0].Questions[:2]
	v.at = 0
	text := drawn(v, 160, 60)
	assert.Contains(t, text, "2 cores too many for map")
	assert.Regexp(t, `vega +█+ +1\.000 cr/h`, text)
	assert.Regexp(t, `presa +no room`, text)
}

// TestHelpIsReadWhileItIsNeeded: on a narrow screen help is cut until its question is answered.
func TestHelpIsReadWhileItIsNeeded(t *testing.T) {
	v := some(t)
	v.offers[0].Questions[0].Help = "One is enough to look at it; two show what happens when one is lost."
	assert.NotContains(t, drawn(v, 80, 24), " lost.")
	v.pane = atQuestions
	assert.Contains(t, drawn(v, 80, 24), " lost.")
}

func TestWhatIsLeftOfAQuotaIsOneParagraph(t *testing.T) {
	v := some(t)
	use := func(account string, m quota.Measure, most, used float64) quota.Use {
		return quota.Use{Account: account, Measure: m, Most: m.Amount(most), Used: m.Amount(used)}
	}
	v.Update(came{n: v.asked, foreseen: &requests.Foreseen{Quote: &offers.Quote{}, Left: []quota.Use{
		use("map", quota.Cores, 8, 6), use("map#2026-11", quota.Instances, 9, 4), use("ribera", quota.Cores, 4, 6)}}})
	text := drawn(v, 100, 40)
	assert.Contains(t, text, "left of map: 2 cores, 5 instances")
	assert.Contains(t, text, "2 cores too many for ribera")
}

// TestAnswersAreTakenAsBefore goes through the answers that were given before, and back to the first.
func TestAnswersAreTakenAsBefore(t *testing.T) {
	v := some(t)
	says := func() string {
		var all []string
		for _, k := range v.Keys() {
			all = append(all, k.Help().Desc)
		}
		return strings.Join(all, " ")
	}
	assert.NotContains(t, says(), "as before")
	saved := []offer.Answers{{"fronts": "3"}, {"fronts": "1", "memory": "4 GiB"}}
	v.Update(came{n: v.asked, foreseen: &requests.Foreseen{Quote: &offers.Quote{}}, saved: saved})
	assert.Contains(t, says(), "as before")
	for _, want := range []int{0, 1, 0} {
		press(v, "b")
		assert.Equal(t, saved[want], v.given())
	}
	press(v, "tab", "left")
	assert.Equal(t, offer.Answers{"fronts": "2"}, v.given())
	assert.Equal(t, offer.Answers{"fronts": "3"}, saved[0], "what was given before stays what it was")
	press(v, "tab", "down")
	assert.NotContains(t, says(), "as before", "nothing was asked of that offer")
	v.Update(listed{})
	v.Update(came{n: v.asked, foreseen: &requests.Foreseen{Quote: &offers.Quote{}}, saved: saved})
	assert.Empty(t, v.Keys(), "nothing is offered any more")
}

// TestARequestIsAnsweredOtherwise takes the answers of a request that waits, and gives it others or leaves it.
func TestARequestIsAnsweredOtherwise(t *testing.T) {
	v := some(t)
	notice := v.Update(view.AskLike{Asked: requests.Asked{Offer: "gone"}})().(view.Notice)
	assert.Equal(t, view.Notice{Text: "gone is not offered any more", Bad: true}, notice)
	v.at = 1
	v.Update(view.AskLike{Asked: requests.Asked{Offer: "map", Answers: offer.Answers{"fronts": "2", "first": "level 3 m"}, Instead: 7}})
	assert.Equal(t, []any{"map", atQuestions, true}, []any{v.selected().Name, v.pane, v.more}, "what stands behind more is shown where it was answered")
	assert.Contains(t, drawn(v, 160, 47), "other answers for request 7")
	press(v, "right")
	assert.Equal(t, requests.Asked{Offer: "map", Answers: offer.Answers{"fronts": "3", "first": "level 3 m"}, Instead: 7}, v.asking())
	comesTo(v, func(f *requests.Foreseen) { f.Quote = &offers.Quote{} })
	cmd, _ := view.Press(v.Keys(), "enter")
	assert.Equal(t, "answer request 7 otherwise", cmd().(view.Prompt).Act.Name)
	assert.Equal(t, int64(7), v.asking().Instead, "until it went well: what was refused can be changed")
	press(v, "esc")
	assert.Equal(t, requests.Asked{Offer: "map", Answers: offer.Answers{}}, v.asking())
	_, used := view.Press(v.Keys(), "esc")
	assert.False(t, used, "there is nothing to leave")
	v.Update(view.AskLike{Asked: requests.Asked{Offer: "map", Answers: offer.Answers{"fronts": "2"}, Instead: 7}})
	require.NotNil(t, v.Update(went{"A map has other answers: request 7"}))
	assert.Zero(t, v.asking().Instead)
	v.Update(view.AskLike{Asked: requests.Asked{Offer: "map", Answers: offer.Answers{"fronts": "2"}, Instead: 7}})
	press(v, "tab", "down")
	assert.Zero(t, v.asking().Instead, "another offer is asked for on its own")
}
