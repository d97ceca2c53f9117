package cli

import (
	"bufio"
	"context"
	"os"
	"runtime"
	"sync/atomic"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/store"
	"dexamen/internal/evidence"
)

// Commit is the commit that the program was built from, stamped by the build.
var Commit string

// Root returns the command line, for those who describe it.
func Root() *cli.Command {
	a := &app{in: bufio.NewReader(os.Stdin), attested: new(atomic.Pointer[evidence.Statement])}
	return a.root()
}

func (a *app) versionCommand() *cli.Command {
	return a.command("", "version", "", "which version this is: commit, Go version, formats", "",
		func(_ context.Context, c *cli.Command) error {
			if err := args(c, 0, 0); err != nil {
				return err
			}
			if a.screen.JSON {
				return a.screen.Encode(map[string]any{"version": Version, "commit": Commit, "go": runtime.Version(),
					"system":       runtime.GOOS + "/" + runtime.GOARCH,
					"store_format": store.FormatVersion, "evidence_format": evidence.Format})
			}
			a.screen.Line("dexamen %s (%s, %s/%s)", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			if Commit != "" {
				a.screen.Line("commit %s", Commit)
			}
			a.screen.Line("store format %d, evidence format %d", store.FormatVersion, evidence.Format)
			return nil
		})
}
