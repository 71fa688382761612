package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"syscall"
	"time"
)

// lockPatience is how long another process may be at bringing a database up to date.
const lockPatience = 30 * time.Second

// lock has one process at a time bring a database up to date: two that both find it empty would both make its tables.
func lock(ctx context.Context, path string) (unlock func(), err error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, lockPatience)
	defer cancel()
	for {
		err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if err == nil {
			return func() { _ = f.Close() }, nil // which ends the lock
		}
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			f.Close()
			return nil, err
		}
		select {
		case <-time.After(10 * time.Millisecond):
		case <-ctx.Done():
			f.Close()
			return nil, fmt.Errorf("another process has kept %s for %s: %w", path, lockPatience, ctx.Err())
		}
	}
}
