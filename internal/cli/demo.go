package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"dexamen/internal/demo/tour"

	"github.com/urfave/cli/v3"
)

func (a *app) demoCommand() *cli.Command {
	return a.command(try, "demo", "", "the whole job on simulated clusters: protect, mishap, recover, prove",
		"Runs the commands you would run, on stand-in clusters and a store in a temporary folder, and shows each.",
		func(ctx context.Context, c *cli.Command) error {
			if err := args(c, 0, 0); err != nil {
				return err
			}
			dir, err := os.MkdirTemp("", "dexamen-demo-*")
			if err != nil {
				return err
			}
			// The demonstration's stores are none that this host is to remember.
			if err := errors.Join(os.Unsetenv("STATE_DIRECTORY"),
				os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))); err != nil {
				return err
			}
			if c.Bool("keep") {
				defer func() { a.screen.Note("kept: %s", dir) }()
			} else {
				defer func() { _ = os.RemoveAll(dir) }()
			}
			s := *a.screen
			s.Terminal, s.Calm, s.JSON = false, true, false
			s.Err = s.Out
			t := tour.Tour{Screen: &s, Dir: dir, Stay: c.Bool("stay"), Documents: c.Int("documents"), Command: runLine,
				Connect: simClient}
			return t.Run(ctx)
		},
		&cli.IntFlag{Name: "documents", Value: 20_000, Usage: "size of the data"},
		&cli.BoolFlag{
			Name: "stay", Usage: "afterwards leave the cluster running to try things by hand, until interrupted"},
		&cli.BoolFlag{Name: "keep", Usage: "keep the temporary folder with store and configuration"})
}
