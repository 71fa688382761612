package part

import (
	"strings"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/stretchr/testify/assert"
)

func TestBarsAreAsHighAsTheirPart(t *testing.T) {
	c := NewCanvas(look(), 12, 1)
	Bars(c, 1, 0, []Known{{0, true}, {1, true}, {4, true}, {0, false}, {8, true}, {16, true}}, 8, func(int) Ink { return Teal })
	assert.Equal(t, " ▁▁▄ ██", strings.TrimRight(plainText(c), " \n"))
	c = NewCanvas(NewLook(false, true, colorprofile.ASCII), 12, 1)
	Bars(c, 0, 0, []Known{{1, true}, {4, true}, {8, true}}, 8, func(int) Ink { return Teal })
	assert.Equal(t, ".:|", strings.TrimRight(plainText(c), " \n"))
}

func TestACurveIsALineOfDotsWithItsRangeBehind(t *testing.T) {
	c := NewCanvas(look(), 4, 2)
	Curve(c, Rect{0, 0, 4, 2}, []Span3{known(0, 0, 0), known(0, 0, 0), known(8, 8, 8), known(8, 8, 8), {}, {}, known(0, 4, 8), known(4, 4, 4)}, 8, func(int) Ink { return Sky })
	rows := strings.Split(plainText(c), "\n")
	assert.Equal(t, []string{" ⡏ ⣀", "⣀⡇ ⡇"}, []string{strings.TrimRight(rows[0], " "), strings.TrimRight(rows[1], " ")})
	assert.NotPanics(t, func() {
		Curve(c, Rect{0, 0, 0, 2}, nil, 8, nil)
		Curve(c, Rect{0, 0, 4, 200}, []Span3{known(-5, 900, 1e12)}, 8, func(int) Ink { return Sky })
		Curve(c, Rect{0, 0, 4, 2}, []Span3{known(1, 1, 1)}, 0, nil)
	})
}

func TestMarksStandWhereTheyHappened(t *testing.T) {
	c := NewCanvas(look(), 12, 1)
	Marks(c, 1, 0, 10, []Mark{{0, "a", Sky}, {0.5, "b", Coral}, {1, "c", Sky}, {1.5, "d", Sky}, {-1, "e", Sky}})
	assert.Equal(t, " a────b───c", strings.TrimRight(plainText(c), " \n"))
}

// known is a span of which everything is known but what is usual.
func known(low, mid, high float64) Span3 { return Span3{Low: low, Mid: mid, High: high, Is: true} }
