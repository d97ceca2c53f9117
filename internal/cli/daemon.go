package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"strings"
	"sync"
	"syscall"
	"time"

	"dexamen/internal/explain"

	"github.com/urfave/cli/v3"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
	"dexamen/internal/core/wait"
	"dexamen/internal/daemon"
	"dexamen/internal/engine"
	"dexamen/internal/report"
	"dexamen/internal/run"
	"dexamen/internal/workers"
)

func (a *app) daemonCommand() *cli.Command {
	return a.command(protect, "daemon", "", "carry out the policies until told to stop",
		`Computes what is due from the schedules and from what the store holds: after a restart or a missed
night nothing is done twice and nothing is forgotten, also with a second daemon somewhere else.
SIGTERM ends it: a capture stores what it has, a snapshot is taken up again by the next attempt.
SIGHUP, or a change of the file, has the configuration read anew; a broken one is refused.
daemon.listen in the configuration says where /healthz, /readyz and /metrics are.
dexamen daemon --unit prints a unit file for systemd.`, a.daemon,
		&cli.BoolFlag{Name: "unit", Usage: "print a unit file for systemd, and end"})
}

// unit is a unit file for systemd (systemd.service(5), systemd.exec(5)).
const unit = `[Unit]
Description=Dexamen: snapshots and logs of database clusters
Wants=network-online.target
After=network-online.target

[Service]
Type=exec
ExecStart=%s --config %s daemon
ExecReload=kill -HUP $MAINPID
Restart=always
RestartSec=5s
TimeoutStopSec=5min
User=dexamen
# Secrets that the configuration takes from the environment:
EnvironmentFile=-/etc/dexamen/environment
NoNewPrivileges=yes
PrivateTmp=yes
StateDirectory=dexamen
CacheDirectory=dexamen
ProtectSystem=full
ProtectHome=read-only

[Install]
WantedBy=multi-user.target
`

func (a *app) daemon(ctx context.Context, c *cli.Command) error {
	if err := args(c, 0, 0); err != nil {
		return err
	}
	cfg, err := a.config(c)
	if err != nil {
		return err
	}
	if c.Bool("unit") {
		bin, err := os.Executable()
		if err != nil {
			return err
		}
		path := cfg.Path
		if wd, err := os.Getwd(); err == nil && path[0] != '/' {
			path = wd + "/" + path
		}
		a.screen.Line("%s", fmt.Sprintf(unit[:len(unit)-1], bin, path))
		return nil
	}
	if _, err := a.assignments(c, ""); err != nil {
		return err
	}
	handler := a.logHandler(c, slog.LevelInfo)
	hup := make(chan os.Signal, 1)
	signal.Notify(hup, syscall.SIGHUP)
	defer signal.Stop(hup)
	reload := make(chan struct{})
	go func() {
		for range hup {
			select {
			case reload <- struct{}{}:
			case <-ctx.Done():
				return
			}
		}
	}()
	watch := config.NewWatch(cfg)
	d := &daemon.Daemon{Deps: a.deps(c), Log: slog.New(handler), Reload: reload,
		Load: watch.Load, Changed: watch.Changed}
	if cfg.Daemon.Listen != "" {
		l, err := net.Listen("tcp", cfg.Daemon.Listen)
		if err != nil {
			return usage("daemon.listen: %v", err)
		}
		l, access, err := pageAccess(ctx, cfg, l)
		if err != nil {
			return err
		}
		d.Log.Info("listening", "address", l.Addr().String())
		go func() {
			if err := d.Serve(ctx, l, access); err != nil {
				d.Log.Error("health and metrics", "error", explain.Error(err))
			}
		}()
	}
	joined := make(chan struct{})
	go func() {
		defer close(joined)
		if err := a.joinAsDaemon(ctx, c, d); err != nil {
			d.Log.Error("this daemon does no tasks of others", "error", explain.Error(err))
		}
	}()
	_ = d.Run(ctx)
	<-joined
	return nil // it was told to stop
}

// joinAsDaemon has a daemon do tasks of others, where that is configured.
func (a *app) joinAsDaemon(ctx context.Context, c *cli.Command, d *daemon.Daemon) error {
	if a.cfg.Workers == nil {
		return nil
	}
	for {
		e, err := a.workersEngine(ctx, c, a.cfg)
		if err == nil {
			return d.JoinWorkers(ctx, e)
		}
		d.Log.Error("the workers' servers cannot be had; trying again", "error", explain.Error(err))
		if err := wait.For(ctx, 30*time.Second); err != nil {
			return nil
		}
	}
}

// pageAccess returns who may see the page on a listener, and the listener as it is to be spoken to.
func pageAccess(ctx context.Context, cfg *config.Config, l net.Listener) (net.Listener, daemon.PageAccess, error) {
	var a daemon.PageAccess
	if addr, ok := l.Addr().(*net.TCPAddr); ok {
		a.Loopback = addr.IP.IsLoopback()
	}
	if t := cfg.Daemon.Token; t != nil {
		text, err := t.Read(ctx)
		if err != nil {
			return nil, a, fmt.Errorf("%s: daemon.token: %w", cfg.Path, err)
		}
		a.Token = strings.TrimSpace(text)
		if len(a.Token) < 16 {
			return nil, a, usage("%s: daemon.token: it is shorter than 16 characters, and could be guessed", cfg.Path)
		}
	}
	s := cfg.Daemon.TLS
	if s == nil {
		return l, a, nil
	}
	cert, err := tls.LoadX509KeyPair(s.Certificate, s.Certificate)
	if err != nil {
		return nil, a, usage("%s: daemon.tls.certificate: %v", cfg.Path, err)
	}
	c := &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	if s.ClientCA != "" {
		pem, err := os.ReadFile(s.ClientCA)
		if err != nil {
			return nil, a, usage("%s: daemon.tls.client_ca: %v", cfg.Path, err)
		}
		c.ClientCAs, c.ClientAuth = x509.NewCertPool(), tls.VerifyClientCertIfGiven
		if !c.ClientCAs.AppendCertsFromPEM(pem) {
			return nil, a, usage("%s: daemon.tls.client_ca: %s holds no certificate in PEM", cfg.Path, s.ClientCA)
		}
		a.ByCertificate = true
	}
	return tls.NewListener(l, c), a, nil
}

// deps is where policies are carried out: stores and clusters as they are
// configured. Memory is shared by what may go on at once.
func (a *app) deps(c *cli.Command) daemon.Deps {
	var mu sync.Mutex
	memos := map[string]*store.Memo{}
	memo := func(name string, most int) *store.Memo {
		mu.Lock()
		defer mu.Unlock()
		if memos[name] == nil {
			memos[name] = store.NewMemo(most)
		}
		return memos[name]
	}
	const atOnce = 2
	captures := max(1, len(daemon.Assignments(a.cfg)))
	memory := int(a.cfg.Limits.Memory)
	return daemon.Deps{Config: a.cfg,
		Mirrored: func(name string, of *store.Store) { a.knowMirror(name, of) },
		Statements: func(since time.Time) func(context.Context, string, *run.Runner) ([]report.Statement, []string,
			error) {
			return a.statementsOf(since, a.trusted(context.Background(), c))
		},
		SegmentBytes: min(16<<20, max(256<<10, memory/8/captures)),
		OpenEnv: func(ctx context.Context, cfg *config.Config, name, cluster string) (*run.Runner, error) {
			b, err := cfg.Open(ctx, name)
			if err != nil {
				return nil, err
			}
			s, err := openStore(ctx, cfg, b, name, func(o *store.Options) {
				o.Memo, o.CacheBytes = memo(cfg.Stores[name].Location, memory/16), o.CacheBytes/atOnce
				o.WriteBytes /= atOnce
				o.IndexBytes /= atOnce
			})
			if err != nil {
				return nil, err
			}
			return &run.Runner{Store: s, StoreName: name, Explain: explain.Error, Tool: "dexamen " + Version,
				Temp:   cfg.Limits.Temp,
				Memory: memory / 4 / atOnce, Parallel: cfg.Limits.ReadersPerCluster,
				ScratchServer: a.scratchServer(c, cfg), Guard: guardOf(cfg),
				Attest: a.attest(cfg, s), OnEvent: func(run.Event) {}}, nil
		},
		OpenCluster: func(ctx context.Context, cfg *config.Config, cluster string, settings *bool) (engine.Cluster,
			error) {
			return a.openCluster(ctx, c, cfg, cluster, settings)
		},
		Version: Version,
		Workers: func(ctx context.Context) (*workers.Engine, error) { return a.workersEngine(ctx, c, a.cfg) }}
}
