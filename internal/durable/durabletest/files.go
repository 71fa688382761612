// Package durabletest is what files must do wherever they are kept.
package durabletest

import (
	"context"
	"fmt"
	"io/fs"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"andamio/internal/durable"
)

// Run tries files that nobody has written to yet, as two users have them.
func Run(t *testing.T, here, there durable.Files) {
	t.Run("WhatIsWrittenIsRead", func(t *testing.T) { whatIsWrittenIsRead(t, here, there) })
	t.Run("NamesAreOfTheirFolder", func(t *testing.T) { namesAreOfTheirFolder(t, here, there) })
	t.Run("OneHasALock", func(t *testing.T) { oneHasALock(t, here, there) })
	t.Run("NothingIsLostUnderALock", func(t *testing.T) { nothingIsLostUnderALock(t, here, there) })
}

// soon waits until something is so, which another user may hear of a moment later.
func soon(t *testing.T, so func() bool) {
	t.Helper()
	require.Eventually(t, so, 20*time.Second, 5*time.Millisecond)
}

func whatIsWrittenIsRead(t *testing.T, here, there durable.Files) {
	_, err := here.Read("teams.yaml")
	require.ErrorIs(t, err, fs.ErrNotExist)
	_, err = here.Stamp("teams.yaml")
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.ErrorIs(t, here.Remove("teams.yaml"), fs.ErrNotExist)
	assert.Contains(t, here.Where("teams.yaml"), "teams.yaml")
	var last durable.Stamp
	for _, text := range []string{"a\x00\xff", "", "longer than before"} {
		require.NoError(t, here.Write("teams.yaml", []byte(text)))
		got, err := here.Read("teams.yaml")
		require.NoError(t, err)
		require.Equal(t, text, string(got), "whoever wrote it reads it at once")
		stamp, err := here.Stamp("teams.yaml")
		require.NoError(t, err)
		require.NotEqual(t, last, stamp)
		require.EqualValues(t, len(text), stamp.Size)
		last = stamp
		soon(t, func() bool { got, err := there.Read("teams.yaml"); return err == nil && string(got) == text })
		for i := range got { // what was read is whoever's who read it
			got[i] = '!'
		}
		again, err := here.Read("teams.yaml")
		require.NoError(t, err)
		require.Equal(t, text, string(again))
	}
	require.NoError(t, here.Remove("teams.yaml"))
	_, err = here.Read("teams.yaml")
	require.ErrorIs(t, err, fs.ErrNotExist)
	soon(t, func() bool { _, err := there.Read("teams.yaml"); return err != nil })
}

func namesAreOfTheirFolder(t *testing.T, here, there durable.Files) {
	none, err := here.Names("overviews")
	require.NoError(t, err)
	assert.Empty(t, none)
	for _, name := range []string{"overviews/b.json", "overviews/a.json", "overview.json", "other/c.json"} {
		require.NoError(t, here.Write(name, []byte("{}")))
	}
	names, err := there.Names("overviews")
	require.NoError(t, err)
	assert.Equal(t, []string{"a.json", "b.json"}, names)
}

func oneHasALock(t *testing.T, here, there durable.Files) {
	unlock, err := here.TryLock(t.Context(), "x.lock")
	require.NoError(t, err)
	_, err = there.TryLock(t.Context(), "x.lock")
	require.ErrorIs(t, err, durable.ErrHeld)
	_, err = there.Lock(t.Context(), "x.lock", 60*time.Millisecond)
	require.ErrorContains(t, err, "another process has kept")
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = there.Lock(ended, "x.lock", time.Minute)
	require.Error(t, err)
	other, err := there.TryLock(t.Context(), "y.lock")
	require.NoError(t, err, "of another name")
	other()
	got := make(chan error, 1)
	go func() {
		mine, err := there.Lock(t.Context(), "x.lock", 20*time.Second)
		if err == nil {
			mine()
		}
		got <- err
	}()
	unlock()
	require.NoError(t, <-got)
}

// nothingIsLostUnderALock has many count in one file.
func nothingIsLostUnderALock(t *testing.T, here, there durable.Files) {
	const each = 8
	var group sync.WaitGroup
	for _, f := range []durable.Files{here, there, here, there} {
		group.Go(func() {
			for range each {
				unlock, err := f.Lock(t.Context(), "count.lock", time.Minute)
				if !assert.NoError(t, err) {
					return
				}
				was, err := f.Read("count")
				n, _ := strconv.Atoi(string(was))
				if err != nil {
					was = nil
				}
				assert.NoError(t, f.Replace("count", was, fmt.Append(nil, n+1)))
				unlock()
			}
		})
	}
	group.Wait()
	got, err := here.Read("count")
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprint(4*each), string(got))
}
