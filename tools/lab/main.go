// Command lab runs a host with libvirt and QEMU of its own, for trying: lab up FOLDER starts it, or finds it running, and says how it is
// connected; lab down FOLDER switches it off; lab possible says what keeps one from being run here.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"

	"andamio/internal/laboratory"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "lab:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, args []string) error {
	if len(args) == 1 && args[0] == "possible" {
		if err := laboratory.Missing(); err != nil {
			return fmt.Errorf("NO LABORATORY, what needs one is left out: %w", err)
		}
		return nil
	}
	if len(args) != 2 || args[0] != "up" && args[0] != "down" {
		return fmt.Errorf("say up FOLDER or down FOLDER")
	}
	dir, err := filepath.Abs(args[1])
	if err != nil {
		return err
	}
	if args[0] == "down" {
		return laboratory.Found(dir).Stop()
	}
	h, err := laboratory.Start(ctx, dir)
	if err != nil {
		return err
	}
	fmt.Printf("a host listens at %s, its machines run in plain emulation; connect it with\n\n"+
		"  andamio site add forja --driver libvirt --kind private --hosts unix:%s --emulated\n\n", h.Socket(), h.Socket())
	return nil
}
