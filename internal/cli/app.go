// Package cli is the command line: a file a group of commands, each of which
// reads its arguments, calls a verb and shows the outcome.
package cli

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"

	_ "dexamen/internal/engine/all"
	"dexamen/internal/explain"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/engine"
	"dexamen/internal/evidence"
	"dexamen/internal/run"
	"dexamen/internal/view"
)

// Version is stamped by the build.
var Version = "dev"

// Exit codes.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitDiffers     = 3
	exitIncomplete  = 4
	exitRefused     = 5
	exitInterrupted = 130
)

// usageError is a mistake in the command line or the configuration.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func usage(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// app holds what commands share.
type app struct {
	screen *view.Screen
	own    bool // the screen is made here, from the flags
	cfg    *config.Config
	in     *bufio.Reader
	typed  string // what is done, where another command was typed that led to it
	opened []*store.Store
	// attested is the statement that was left last.
	attested *atomic.Pointer[evidence.Statement]
	drawn    bool          // a chart was
	held     *bytes.Buffer // what is shown only where a command fails, or asks
	trace    *trace        // nil but with --trace-to
	crew     *crew         // what work is shared by
}

// Run runs the command line and gives the exit code.
func Run(ctx context.Context, args []string) int {
	return runLine(ctx, args, nil)
}

// runLine runs one command line; with a screen given it writes there.
func runLine(ctx context.Context, args []string, screen *view.Screen) int {
	a := &app{screen: screen, own: screen == nil, in: bufio.NewReader(os.Stdin),
		attested: new(atomic.Pointer[evidence.Statement]), crew: &crew{}}
	err := a.root().Run(ctx, args)
	for _, s := range a.opened {
		s.Close()
	}
	a.crew.close()
	if a.trace != nil {
		err = errors.Join(err, a.trace.end(a.screen))
	}
	code := exitCode(ctx, err)
	if err != nil {
		if a.screen == nil {
			a.screen = view.NewScreen(true)
		}
		a.showError(err, code)
	}
	return code
}

func exitCode(ctx context.Context, err error) int {
	var ue usageError
	switch {
	case err == nil:
		return exitDone
	case ctx.Err() != nil:
		return exitInterrupted // a signal, and nothing else
	case errors.As(err, &ue):
		return exitUsage
	case errors.Is(err, run.ErrRefused), errors.Is(err, store.ErrStoreExists):
		return exitRefused
	case errors.Is(err, run.ErrDiffers):
		return exitDiffers
	case errors.Is(err, run.ErrIncomplete):
		return exitIncomplete
	}
	return exitFailed
}

func (a *app) showError(err error, code int) {
	msg := explain.Error(err)
	if code == exitInterrupted {
		msg = "interrupted; nothing half-done counts as done, and it is safe to run again"
	}
	if a.screen.JSON {
		a.screen.EncodeError(msg, code)
		return
	}
	a.screen.Note("dexamen: %v", errors.New(msg))
}

func (a *app) root() *cli.Command {
	root := &cli.Command{
		Name:    "dexamen",
		Usage:   "snapshots, logs, restores and proofs for clusters of non-relational databases",
		Version: Version,
		Description: `An ADDRESS names what, when and which part:

   CLUSTER@WHEN/NAMESPACE   meadow@10:14:04/apiary.harvests   meadow@latest   meadow@live/apiary.*

WHEN is latest (the last moment that can be restored), live (the cluster itself),
a time (10:14:04 or 2026-11-23T10:14:04Z), a distance back (-15m), a point's id,
or log:POSITION. NAMESPACE is a name or a glob; without it all are meant.

Exit codes: 0 done; 1 failed; 2 wrong usage or configuration; 3 a verification or
comparison found a difference; 4 done, but something is missing; 5 refused for
safety; 130 interrupted, and safe to run again.`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "config",
				Usage: "configuration `FILE` (else DEXAMEN_CONFIG, ./dexamen.yaml, the user's and the system's)"},
			&cli.StringFlag{Name: "store", Usage: "`STORE` to use, where several are configured"},
			&cli.BoolFlag{Name: "json", Usage: "print results as JSON"},
			&cli.BoolFlag{Name: "quiet", Usage: "no progress, and nothing where what was to be done is done"},
			&cli.StringFlag{Name: "log-level", Value: "warn",
				Usage: "what to log to standard error: debug, info, warn, error"},
			&cli.StringFlag{Name: "log-format", Value: "text", Usage: "how to log: text (a line of KEY=VALUE) or json"},
			&cli.StringFlag{Name: "trace-to", Usage: "write where the processor's time and memory went into `DIR`, " +
				"as profiles of pprof"},
			&cli.BoolFlag{Name: "no-color", Usage: "no colours (also: NO_COLOR)"},
		},
		EnableShellCompletion: true,
		Suggest:               true,
		Before: func(ctx context.Context, c *cli.Command) (context.Context, error) {
			if err := a.setScreen(c); err != nil {
				return ctx, err
			}
			if dir := c.String("trace-to"); dir != "" && a.own {
				t, err := startTrace(dir)
				if err != nil {
					return ctx, err
				}
				a.trace = t
			}
			return ctx, nil
		},
		OnUsageError:   onUsage,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Commands: []*cli.Command{
			a.configCommands(), a.clusterCommands(), a.storeCommands(), a.policyCommands(), a.alertsCommand(),
			a.snapshotCommand(), a.captureCommand(), a.daemonCommand(), a.dueCommand(), a.workersCommands(),
			a.statusCommand(),
			a.runsCommand(), a.pointsCommand(), a.coverageCommand(), a.retentionCommand(), a.holdCommand(),
			a.browseCommand(), a.pinpointCommand(),
			a.compareCommand(), a.restoreCommand(), a.undoCommand(), a.exportCommand(), a.serveCommand(),
			a.accountCommands(),
			a.verifyCommand(), a.drillCommand(), a.reportCommand(),
			a.evidenceCommands(),
			a.demoCommand(), a.simCommand(), a.versionCommand(),
		},
	}
	mistyped(root)
	return root
}

// mistyped has every group of commands answer a word that is none of them: with what is near it, or
// what there is.
func mistyped(group *cli.Command) {
	var names []string
	for _, c := range group.Commands {
		names = append(names, c.Name)
		mistyped(c)
	}
	if len(names) == 0 || group.Action != nil {
		return
	}
	group.Action = func(_ context.Context, c *cli.Command) error {
		if !c.Args().Present() {
			if c.Root() == c {
				return cli.ShowAppHelp(c)
			}
			return cli.ShowSubcommandHelp(c)
		}
		word := c.Args().First()
		if near := engine.Nearest(word, names, 2); len(near) > 0 {
			return usage("there is no command %q; near it: %s %s", c.FullName()+" "+word, c.FullName(),
				strings.Join(near, ", "+c.FullName()+" "))
		}
		return usage("there is no command %q; %s has %s", c.FullName()+" "+word, c.FullName(), strings.Join(names,
			", "))
	}
}

// badValue is how the library words a value that is no number or no length of time.
var badValue = regexp.MustCompile(`^invalid value "(.*)" for flag -(\S+): (?:strconv|time)`)

func onUsage(_ context.Context, c *cli.Command, err error, _ bool) error {
	if m := badValue.FindStringSubmatch(err.Error()); m != nil {
		return usage("--%s %s: it takes a whole number, or a length of time such as 30s; see: %s --help", m[2], m[1],
			c.FullName())
	}
	name, unknown := strings.CutPrefix(err.Error(), "flag provided but not defined: -")
	if !unknown {
		return usage("%v; see: %s --help", err, c.FullName())
	}
	var all []string
	for _, f := range append(slices.Clone(c.Flags), c.Root().Flags...) {
		all = append(all, f.Names()[0])
	}
	near := engine.Nearest(strings.TrimLeft(name, "-"), all, 2)
	for i, n := range near {
		near[i] = "--" + n
	}
	text := fmt.Sprintf("there is no flag --%s", strings.TrimLeft(name, "-"))
	if len(near) > 0 {
		text += "; near it: " + strings.Join(near, ", ")
	}
	return usage("%s; see: %s --help", text, c.FullName())
}

// command fills in what all commands have. Global flags count wherever they
// stand on the line.
func (a *app) command(category, name, args, use, more string, action cli.ActionFunc, flags ...cli.Flag) *cli.Command {
	return &cli.Command{Name: name, ArgsUsage: args, Usage: use, Description: more, Category: category,
		Flags: flags, OnUsageError: onUsage, ShellComplete: a.complete(args),
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := a.setScreen(c); err != nil {
				return err
			}
			return a.silently(ctx, c, action)
		}}
}

// silently runs a command of --quiet. Of one that does something, and is not asked what there is, the
// result is shown only where it is no success: what a scheduler mails is then worth reading.
func (a *app) silently(ctx context.Context, c *cli.Command, action cli.ActionFunc) error {
	does := slices.Contains([]string{"snapshot", "capture", "verify", "restore", "undo", "hold", "drill", "scrub",
		"mirror",
		"reclaim"}, c.Name) || c.Bool("apply") || c.Bool("run")
	if !a.screen.Quiet || a.screen.JSON || !does || c.Bool("follow") || c.Bool("preview") {
		return action(ctx, c)
	}
	out := a.screen.Out
	a.held = &bytes.Buffer{}
	a.screen.Out = a.held
	err := action(ctx, c)
	a.screen.Out = out
	if err != nil {
		_, werr := a.held.WriteTo(out)
		err = errors.Join(err, werr)
	}
	a.held = nil
	return err
}

// setScreen reads the flags that say how to show things.
func (a *app) setScreen(c *cli.Command) error {
	if a.own {
		a.screen = view.NewScreen(c.Bool("no-color"))
	}
	if a.screen.Data == nil {
		a.screen.Data = a.screen.Out
	}
	a.screen.JSON, a.screen.Quiet = c.Bool("json"), c.Bool("quiet")
	var level slog.Level
	if err := level.UnmarshalText([]byte(c.String("log-level"))); err != nil {
		return usage("--log-level %s: use debug, info, warn or error", c.String("log-level"))
	}
	if f := c.String("log-format"); f != "text" && f != "json" {
		return usage("--log-format %s: use text or json", f)
	}
	return nil
}

// args checks that a command was given so many arguments.
func args(c *cli.Command, least, most int) error {
	if n := c.Args().Len(); n < least || n > most {
		return usage("wrong number of arguments; write: %s", strings.TrimSpace(c.FullName()+" "+c.ArgsUsage))
	}
	for _, a := range c.Args().Slice() {
		if strings.HasPrefix(a, "--") {
			return usage("unknown flag %s; see: %s --help", a, c.FullName())
		}
	}
	return nil
}

const protect = "protect"

const recovery = "recover"

const proof = "prove"

const setUp = "set up"

const try = "try"
