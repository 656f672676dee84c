// Tressik federates apps with identity providers and proves each sign-in before people depend on it.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"syscall"

	"admin.tressik.example/internal/cli"
	"admin.tressik.example/internal/first"
)

func main() {
	b := cli.Build{Version: first.Version, Commit: first.Commit, Go: runtime.Version()}
	if info, ok := debug.ReadBuildInfo(); ok && b.Commit == "" {
		b.Commit = "unknown"
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && len(s.Value) >= 12 {
				b.Commit = s.Value[:12]
			}
		}
	}
	signal.Ignore(syscall.SIGPIPE) // a closed output is reported as an error, with an exit status
	a := &cli.App{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Env: os.Getenv, Build: b}
	os.Exit(a.Run(context.Background(), os.Args[1:]))
}
