package cli

import (
	"fmt"
	"os"

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
