// Tressik federates apps with identity providers and proves each sign-in before people depend on it.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"syscall"

	"tressik.example/internal/face/command"
)

// version and commit are set by the linker; an empty commit is looked for in the build's own record.
var (
	version = "0.1.0"
	commit  = ""
)

func main() {
	b := command.Build{Version: version, Commit: commit, Go: runtime.Version()}
	if info, ok := debug.ReadBuildInfo(); ok && b.Commit == "" {
		b.Commit = "unknown"
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && len(s.Value) >= 12 {
				b.Commit = s.Value[:12]
			}
		}
	}
	signal.Ignore(syscall.SIGPIPE) // a closed output is reported as an error, with an exit status
	ctx, interrupted := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM) // to the end: what is done is done
	go func() {
		<-signals
		interrupted()
		<-signals // somebody does not want to wait
		os.Exit(command.Interrupted)
	}()
	a := &command.App{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Env: os.Getenv, Build: b}
	os.Exit(a.Run(ctx, os.Args[1:]))
}
