// Command dexamen protects clusters of non-relational databases: snapshots,
// logs, restores to any protected moment, and the proof that what was restored
// is what was there.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"dexamen/internal/cli"
	"dexamen/internal/engine/folder/remote"
	"dexamen/internal/guard"
)

func main() {
	if len(os.Args) == 2 && os.Args[1] == guard.Argument {
		os.Exit(guard.Run(os.Stdin, os.Stdout, os.Stderr))
	}
	if len(os.Args) == 2 && os.Args[1] == remote.Argument {
		signal.Ignore(syscall.SIGHUP, syscall.SIGPIPE) // the end of the connection says when it is over
		os.Exit(remote.Serve(os.Stdin, os.Stdout, os.Stderr))
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, os.Args)
	stop()
	os.Exit(code)
}
