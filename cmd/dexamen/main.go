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
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, os.Args)
	stop()
	os.Exit(code)
}
