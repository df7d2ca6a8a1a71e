// Package built builds the program for the tests that run it as a process of its own.
package built

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"
)

// Main builds the program, puts its path into program, runs the tests, and ends the
// process. UNQUIL_TEST_RACE=1 builds it with the race detector.
func Main(m *testing.M, program *string) {
	folder, err := os.MkdirTemp("", "unquil-built-")
	if err != nil {
		panic(err)
	}
	*program = filepath.Join(folder, "unquil")
	if runtime.GOOS == "windows" {
		*program += ".exe"
	}
	build := exec.Command("go", "build", "-pgo=off", "-o", *program, "unquil/cmd/unquil")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if os.Getenv("UNQUIL_TEST_RACE") != "" {
		build = exec.Command("go", "build", "-race", "-pgo=off", "-o", *program, "unquil/cmd/unquil")
	}
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		os.Exit(1)
	}
	flag.Parse()
	if parallel := flag.Lookup("test.parallel"); parallel.Value.String() == parallel.DefValue {
		parallel.Value.Set("8") // processes wait for silent servers, and use little else
	}
	code := m.Run()
	os.RemoveAll(folder)
	os.Exit(code)
}
