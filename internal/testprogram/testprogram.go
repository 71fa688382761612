// Package testprogram builds the program for tests that run it as its users do.
package testprogram

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// Main builds the program, puts its path into binary, runs the tests, does what is to be done after them, and ends the process. Call it from TestMain.
func Main(m *testing.M, binary *string, after ...func()) {
	dir, err := os.MkdirTemp("", "andamio-bin-")
	if err != nil {
		panic(err)
	}
	*binary = filepath.Join(dir, "andamio")
	if out, err := exec.Command("go", "build", "-o", *binary, "andamio/cmd/andamio").CombinedOutput(); err != nil {
		panic(fmt.Sprintf("build: %v\n%s", err, out))
	}
	os.Setenv("ANDAMIO_SERVE", "off") // what screens start by themselves would outlive the tests
	code := m.Run()
	for _, do := range after {
		do()
	}
	os.RemoveAll(dir)
	os.Exit(code)
}
