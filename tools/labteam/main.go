// Command labteam runs a team's laboratory until it is interrupted, and then takes it away: labteam PROGRAM FOLDER.
package main

import (
	"context"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"

	busserver "andamio/internal/bus/server"
	"andamio/internal/team"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "labteam:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, args []string) error {
	if len(args) != 2 {
		return fmt.Errorf("say labteam PROGRAM FOLDER")
	}
	if err := team.Missing(); err != nil {
		return fmt.Errorf("NO LABORATORY: %w", err)
	}
	program, err := filepath.Abs(args[0])
	if err != nil {
		return err
	}
	dir, err := filepath.Abs(args[1])
	if err != nil {
		return err
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s has something in it (%s): name a folder that is empty or not there yet", dir, entries[0].Name())
	}
	if err := os.MkdirAll(dir, 0o755); err != nil { // the database's user passes through it
		return err
	}
	defer os.RemoveAll(dir)
	fmt.Println("a database, a bus, two closed networks with their sites and workers, and three machines are begun …")
	t, err := team.Start(ctx, program, dir, "0.2")
	if err != nil {
		return err
	}
	for _, m := range t.Machines {
		fmt.Printf("  %s --workspace %s          programs at %s\n", args[0], m.Dir, m.URL)
	}
	fmt.Printf("  ssh -i %s -p %s keeper@127.0.0.1          the screens, over SSH\n", t.Key, t.Portal[len("127.0.0.1:"):])
	fmt.Printf("  what happens is kept on %s, under andamio          (user %s, password %s)\n", t.Bus.URL(), busserver.User, busserver.Password)
	for _, n := range t.Networks {
		fmt.Printf("  %s: %v, reached from inside alone\n", n.Name, n.Sites)
	}
	fmt.Println("interrupt it to have all of it be gone")
	<-ctx.Done()
	return t.Stop()
}
