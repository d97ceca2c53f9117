package workers

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// Options say where work is shared.
type Options struct {
	// Servers are the addresses of NATS servers with JetStream (nats://HOST:PORT or
	// tls://HOST:PORT). Without any, one runs within this process and listens nowhere.
	Servers []string
	// Credentials is a file with a user's token and key, as NATS' own tools write it; empty for none.
	Credentials string
	// TLS is how to speak TLS; nil for what the addresses ask for.
	TLS *tls.Config
	// Name is what the connection is called at the servers.
	Name string
	// Replicas is on how many servers each message is kept; 0 is three where three or more are
	// configured, else one.
	Replicas int
	// LostAfter is after how long a job of which nothing is heard has ended, and a worker's tasks are
	// given to others (default 30s).
	LostAfter time.Duration
	// Alone is for how long a job waits for a worker that may do its tasks, where there is none (default 2m).
	Alone time.Duration
	Log   *slog.Logger
}

// patience is how many beats may be missed.
const patience = 6

// Engine is what work is shared by. Its methods may be called from many goroutines.
type Engine struct {
	opt  Options
	beat time.Duration // how often a job and a worker say that they are there
	own  *Server
	conn *nats.Conn
	js   jetstream.JetStream

	tasks   jetstream.Stream
	jobs    jetstream.KeyValue
	results jetstream.KeyValue
	present jetstream.KeyValue
	slots   jetstream.KeyValue
}

// Open connects to the servers, and makes there what is not there yet.
func Open(ctx context.Context, opt Options) (*Engine, error) {
	if opt.LostAfter <= 0 {
		opt.LostAfter = 30 * time.Second
	}
	if opt.Alone <= 0 {
		opt.Alone = 2 * time.Minute
	}
	if opt.Log == nil {
		opt.Log = slog.New(slog.DiscardHandler)
	}
	e := &Engine{opt: opt, beat: opt.LostAfter / patience}
	err := e.connect()
	if err == nil {
		err = e.makeBuckets(ctx)
	}
	if err != nil {
		e.Close()
		return nil, err
	}
	return e, nil
}

// Within reports whether the servers are one within this process, of which no other process knows.
func (e *Engine) Within() bool { return e.own != nil }

// Connected reports whether a server is reached now.
func (e *Engine) Connected() bool { return e.conn.IsConnected() }

func (e *Engine) connect() (err error) {
	opts := []nats.Option{nats.Name(e.opt.Name), nats.MaxReconnects(-1), nats.ReconnectWait(time.Second),
		nats.Timeout(10 * time.Second), nats.PingInterval(4 * e.beat), nats.MaxPingsOutstanding(2),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if err != nil {
				e.opt.Log.Warn("the connection to the workers' servers broke off", "error", err)
			}
		}),
		nats.ReconnectHandler(func(c *nats.Conn) {
			e.opt.Log.Info("connected to the workers' servers again", "server", c.ConnectedUrlRedacted())
		}),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			e.opt.Log.Warn("the workers' servers", "error", err)
		})}
	if e.opt.Credentials != "" {
		opts = append(opts, nats.UserCredentials(e.opt.Credentials))
	}
	if e.opt.TLS != nil {
		opts = append(opts, nats.Secure(e.opt.TLS))
	}
	where := strings.Join(e.opt.Servers, ",")
	if where == "" {
		if e.own, err = start(&server.Options{DontListen: true}); err != nil {
			return err
		}
		opts = append(opts, nats.InProcessServer(e.own.nats))
	}
	if e.conn, err = nats.Connect(where, opts...); err != nil {
		return fmt.Errorf("the workers' servers (%s) cannot be reached; are they up, and are workers.servers right? %w",
			where, err)
	}
	e.js, err = jetstream.New(e.conn)
	return err
}

// Close ends the connection.
func (e *Engine) Close() {
	if e.conn != nil {
		e.conn.Close()
	}
	if e.own != nil {
		e.own.Close()
	}
}
