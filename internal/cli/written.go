package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"andamio/internal/app"
	"andamio/internal/core/fault"
)

// readFile reads what an administrator wrote, and its text. What is wrong with it is said with the file.
func readFile[T any](file string, read func([]byte) (*T, error)) (*T, []byte, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, nil, err
	}
	out, err := read(text)
	if err != nil {
		err = fault.Default(fault.Invalid, fmt.Errorf("%s: %w", file, err))
	}
	return out, text, err
}

// checking is the command that says what is wrong with a file; say says what is in one of which nothing is.
func checking[T any](s *shared, what string, read func([]byte) (*T, error), say func(*T) string) *cobra.Command {
	return &cobra.Command{Use: "check FILE", Short: "Say what is wrong with a file of " + what, Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			f, _, err := readFile(args[0], read)
			if err != nil {
				return err
			}
			fmt.Fprintln(s.out, say(f))
			return nil
		}}
}

// setting is the command that keeps what is in a file; say says what was.
func setting[T any](s *shared, short string, read func([]byte) (*T, error), set func(*app.App, context.Context, []byte) (*T, error), say func(*T) string) *cobra.Command {
	return &cobra.Command{Use: "set FILE", Short: short, Args: cobra.ExactArgs(1),
		RunE: s.with(func(ctx context.Context, a *app.App, args []string) error {
			_, text, err := readFile(args[0], read)
			if err != nil {
				return err
			}
			f, err := set(a, ctx, text)
			if err != nil {
				return named(args[0], err)
			}
			fmt.Fprintln(s.out, say(f))
			return nil
		})}
}
