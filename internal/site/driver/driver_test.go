package driver

import (
	"errors"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/core/kinds"
	"andamio/internal/site"
)

// toy is a driver with a field of every sort.
func toy() *Driver {
	port := func(text string) (string, error) {
		if text == "0" {
			return "", errors.New("no port is 0")
		}
		return "port " + text, nil
	}
	return &Driver{Name: "toy", Address: "port", Credential: "phrase",
		Questions: []Question{
			{Word: "port", Fields: []Field{{Name: "port", Needed: true, About: "where it is", Check: port}}},
			{Word: "extras", Fields: []Field{{Name: "paper", Word: "paper", File: true}, {Name: "paper-key", Word: "paper key", Secret: true, File: true},
				{Name: "colour", Word: "colour", Takes: "NAME"}, {Name: "loud", Word: "out loud", Switch: true}, {Name: "note", Word: "note"}}},
			{Word: "phrase", Fields: []Field{{Name: "phrase", Needed: true, Secret: true}}},
		},
		Check: func(v Values) error {
			if v["loud"] == On && v["colour"] == "" {
				return errors.New("what is loud has a colour")
			}
			return nil
		},
		Exposed: func(v Values) string {
			if v["loud"] == On {
				return "loud: everybody hears it"
			}
			return ""
		},
		Guards: func(v Values) []string { return []string{"in " + v["colour"]} },
	}
}

func TestValuesAreCheckedAndCompleted(t *testing.T) {
	d := toy()
	for _, c := range []struct {
		name string
		in   Values
		want Values
		says string
	}{
		{"all", Values{"port": "5", "colour": "red", "loud": On, "phrase": "x"}, Values{"port": "port 5", "colour": "red", "loud": On, "phrase": "x"}, ""},
		{"no secret yet", Values{"port": "5"}, Values{"port": "port 5"}, ""},
		{"empty is not said", Values{"port": "5", "note": "", "other": ""}, Values{"port": "port 5"}, ""},
		{"needed", Values{"phrase": "x"}, nil, "port is missing: where it is"},
		{"wrong", Values{"port": "0"}, nil, "no port is 0"},
		{"of others", Values{"port": "5", "zone": "a"}, nil, `sites that speak toy are not told "zone"`},
		{"no switch", Values{"port": "5", "loud": "yes"}, nil, "loud is true or not said"},
		{"together", Values{"port": "5", "loud": On}, nil, "what is loud has a colour"},
	} {
		got, err := d.Normal(c.in)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, c.name)
			continue
		}
		require.NoError(t, err, c.name)
		assert.Equal(t, c.want, got, c.name)
	}
	_, err := d.Normal(Values{"port": "0", "zone": "a", "loud": "yes"})
	for _, all := range []string{"no port is 0", "zone", "loud is true"} {
		assert.ErrorContains(t, err, all)
	}
}

func TestAnswersAreRead(t *testing.T) {
	dir := t.TempDir()
	paper, pipe := filepath.Join(dir, "paper"), filepath.Join(dir, "pipe")
	require.NoError(t, os.WriteFile(paper, []byte("what is written"), 0o600))
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	d := toy()
	extras := &d.Questions[1]
	assert.Equal(t, "paper FILE, paper key FILE, colour NAME, out loud or note TEXT", extras.Forms())
	for _, c := range []struct {
		answer string
		want   Values
		says   string
	}{
		{"", Values{}, ""},
		{" , ", Values{}, ""},
		{"out loud", Values{"loud": On}, ""},
		{"colour red ,  note of hand, out loud", Values{"colour": "red", "note": "of hand", "loud": On}, ""},
		{"paper " + paper, Values{"paper": "what is written"}, ""},
		{"paper key " + paper, Values{"paper-key": "what is written"}, ""}, // the longer word
		{"out loudly", nil, `"out loudly" is no answer; write paper FILE`},
		{"colour", nil, "is no answer"},
		{"colour ", nil, "is no answer"},
		{"coloured red", nil, "is no answer"},
		{"paper /none/such", nil, "no such file"},
		{"paper /dev/zero", nil, "only plain files are read"},
		{"paper " + pipe, nil, "only plain files are read"},
		{"paper " + dir, nil, "only plain files are read"},
	} {
		got, err := extras.Answer(c.answer)
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, c.answer)
			continue
		}
		require.NoError(t, err, c.answer)
		assert.Equal(t, c.want, got, c.answer)
	}
	got, err := d.Questions[0].Answer(" 5, 6 ")
	require.NoError(t, err)
	assert.Equal(t, Values{"port": "5, 6"}, got, "the answer to one field is the whole of it")
	got, err = d.Questions[0].Answer(" ")
	require.NoError(t, err)
	assert.Equal(t, Values{}, got)
	one := Question{Fields: []Field{{Name: "a", Word: "a"}}}
	assert.Equal(t, "a TEXT", one.Forms())
	require.NoError(t, os.Truncate(paper, mostFile+1))
	_, err = ReadFile(paper)
	assert.ErrorContains(t, err, "at most 1048576 bytes are read")
}

func TestADriverSaysWhatItIsTold(t *testing.T) {
	d := toy()
	assert.Equal(t, []string{"paper-key", "phrase"}, d.Secrets())
	assert.Equal(t, "where it is", d.Field("port").About)
	assert.Nil(t, d.Field("none"))
	assert.Equal(t, "loud: everybody hears it · in red", d.Says(Values{"loud": On, "colour": "red"}))
	assert.True(t, d.Questions[2].Secret())
	assert.False(t, d.Questions[1].Secret(), "of several, those that are secret are files")
	assert.Nil(t, d.Questions[1].Single())
	assert.Empty(t, (&Driver{}).Says(nil))
}

// TestASiteThatCannotBeOpenedRefusesWithTheReason asks everything of it.
func TestASiteThatCannotBeOpenedRefusesWithTheReason(t *testing.T) {
	s, ctx := Shut("vega", errors.New("its key is gone")), t.Context()
	v := s.(site.Surveyor)
	assert.Equal(t, "vega", s.Name())
	for name, ask := range map[string]func() error{
		"describe": func() error { _, err := s.Describe(ctx); return err },
		"create":   func() error { _, err := s.Create(ctx, site.Request{}); return err },
		"read":     func() error { _, err := s.Read(ctx, kinds.Volume, "x"); return err },
		"list":     func() error { _, err := s.List(ctx, kinds.Volume); return err },
		"act":      func() error { _, err := s.Invoke(ctx, kinds.Instance, "x", "stop"); return err },
		"change":   func() error { _, err := s.Change(ctx, kinds.Instance, "x", site.Request{}); return err },
		"delete":   func() error { return s.Delete(ctx, kinds.Instance, "x") },
		"access":   func() error { _, err := v.Access(ctx); return err },
		"page":     func() error { _, err := v.Page(ctx, site.Query{}); return err },
		"rotate":   func() error { _, err := v.Rotate(ctx, "x"); return err },
	} {
		err := ask()
		assert.ErrorContains(t, err, "its key is gone", name)
		assert.Equal(t, site.Refused, site.ClassOf(err), name)
	}
}
