package disk

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestADiskBecomesWhatWasTaken writes to disks at random, in layers and not, takes what one holds, writes on, and has it become that again: byte by byte, and as
// it is told to whoever copies what was written since.
func TestADiskBecomesWhatWasTaken(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := int64(rapid.IntRange(1, 40).Draw(t, "pages"))*Page - int64(rapid.IntRange(0, Page-1).Draw(t, "less"))
		d := New(size, "a")
		defer d.Close()
		scribble := func(n int) {
			for range n {
				off := rapid.Int64Range(0, size-1).Draw(t, "off")
				switch rapid.IntRange(0, 4).Draw(t, "what") {
				case 0:
					if err := d.Apart(rapid.IntRange(1, 4).Draw(t, "round")); err != nil {
						t.Fatal(err)
					}
				case 1:
					page := off / Page * Page
					if page+Page <= size {
						if err := d.Zero(page, Page); err != nil {
							t.Fatal(err)
						}
					}
				default:
					data := rapid.SliceOfN(rapid.Byte(), 1, 3*Page).Draw(t, "data")
					data = data[:min(int64(len(data)), size-off)]
					if _, err := d.WriteAt(data, off); err != nil {
						t.Fatal(err)
					}
				}
			}
		}
		whole := func(x *Disk) string {
			data := make([]byte, size)
			if _, err := x.ReadAt(data, 0); err != nil {
				t.Fatal(err)
			}
			return string(data)
		}
		scribble(rapid.IntRange(0, 6).Draw(t, "before"))
		then := whole(d)
		kept := New(size, "b")
		defer kept.Close()
		held, err := kept.Take(d)
		if err != nil || whole(kept) != then {
			t.Fatalf("it is not what the disk held: %v", err)
		}
		if held < 0 || held > size {
			t.Fatalf("%d of %d bytes are held", held, size)
		}
		_, _, upTo := d.Changes(0)
		scribble(rapid.IntRange(0, 6).Draw(t, "after"))
		copied := New(size, "c") // what somebody else had copied when the snapshot was taken
		defer copied.Close()
		if _, err := copied.Take(kept); err != nil {
			t.Fatal(err)
		}
		if err := d.Become(kept); err != nil || whole(d) != then {
			t.Fatalf("it does not hold what it held: %v", err)
		}
		written, zero, _ := d.Changes(upTo)
		for _, x := range append(written, zero...) {
			data := make([]byte, x.Length)
			if _, err := d.ReadAt(data, x.Offset); err != nil {
				t.Fatal(err)
			}
			if _, err := copied.WriteAt(data, x.Offset); err != nil {
				t.Fatal(err)
			}
		}
		if whole(copied) != then {
			t.Fatal("who copies what was written since has something else")
		}
	})
}

func TestADiskDoesNotBecomeALargerOne(t *testing.T) {
	small, large := New(Page, "a"), New(2*Page, "b")
	defer small.Close()
	defer large.Close()
	require.ErrorContains(t, small.Become(large), "does not hold what one of")
	_, err := small.WriteAt([]byte("here"), 0)
	require.NoError(t, err)
	require.NoError(t, large.Become(small), "one that grew since holds it")
	got := make([]byte, 4)
	_, err = large.ReadAt(got, 0)
	require.NoError(t, err)
	assert.Equal(t, "here", string(got))
	require.NoError(t, small.Close())
	_, err = New(Page, "c").Take(small)
	assert.NoError(t, err, "of what is gone nothing is held")
}

// TestChangesOfWhatWasTakenAreThoseOfTheDisk writes at random, and copies from what was taken alone, each time what was written since the one before:
// what is copied is what was taken, whatever was written to the disk meanwhile.
func TestChangesOfWhatWasTakenAreThoseOfTheDisk(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const size = 24 * Page
		d, copied := New(size, "a"), New(size, "c")
		defer d.Close()
		defer copied.Close()
		scribble := func() {
			for range rapid.IntRange(0, 4).Draw(t, "writes") {
				page := int64(rapid.IntRange(0, 23).Draw(t, "page"))
				if rapid.Bool().Draw(t, "zero") {
					if err := d.Zero(page*Page, Page); err != nil {
						t.Fatal(err)
					}
				} else if _, err := d.WriteAt([]byte{byte(rapid.IntRange(1, 255).Draw(t, "byte"))}, page*Page); err != nil {
					t.Fatal(err)
				}
			}
		}
		base := uint32(0)
		for range rapid.IntRange(1, 5).Draw(t, "rounds") {
			scribble()
			taken := New(size, "b")
			if _, err := taken.Take(d); err != nil {
				t.Fatal(err)
			}
			scribble()
			if taken.Epoch != "a" {
				t.Fatalf("its generations are those of %q", taken.Epoch)
			}
			written, zero, upTo := taken.Changes(base)
			if again, gone, same := taken.Changes(base); len(again) != len(written) || len(gone) != len(zero) || same != upTo {
				t.Fatal("asked twice it says something else")
			}
			base = upTo
			for _, x := range append(written, zero...) {
				data := make([]byte, x.Length)
				if _, err := taken.ReadAt(data, x.Offset); err != nil {
					t.Fatal(err)
				}
				if _, err := copied.WriteAt(data, x.Offset); err != nil {
					t.Fatal(err)
				}
			}
			a, b := make([]byte, size), make([]byte, size)
			if _, err := taken.ReadAt(a, 0); err != nil {
				t.Fatal(err)
			}
			if _, err := copied.ReadAt(b, 0); err != nil {
				t.Fatal(err)
			}
			if string(a) != string(b) {
				t.Fatal("who copies what was written since the one before has something else")
			}
			taken.Close()
		}
	})
}
