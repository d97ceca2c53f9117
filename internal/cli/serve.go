package cli

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/base32"
	"fmt"
	"net"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"dexamen/internal/core/address"
	"dexamen/internal/run"
	"dexamen/internal/serve"
	"dexamen/internal/view"
)

func (a *app) serveCommand() *cli.Command {
	return a.command(recovery, "serve", "ADDRESS",
		"answer clients of the cluster's own protocol with a moment, read only",
		`A shell, a driver or an application looks at the moment as if it were live: it is answered
from the store, nothing is restored and nothing can be written. It ends with an interrupt, or after
the time of --for. The password is made for this one time, and printed once. This is for document
clusters, etcd and Redis (of a point, or of a moment that a scratch server makes).

   dexamen serve meadow@10:14:04/apiary.*
   dexamen serve willow@-2h//gateways/ --for 40m`, a.serve,
		&cli.StringFlag{Name: "listen", Value: "127.0.0.1:0",
			Usage: "`ADDRESS` to listen at; without TLS it must be this machine's own (a loopback address)"},
		&cli.StringFlag{Name: "for", Usage: "end after this `TIME`, such as 40m"},
		&cli.StringFlag{Name: "tls", Usage: "speak TLS, with the certificate and the key in this `FILE` (PEM)"},
		scratchFlag())
}

func (a *app) serve(ctx context.Context, c *cli.Command) error {
	if err := args(c, 1, 1); err != nil {
		return err
	}
	ad, err := parseAddress(c.Args().First())
	if err != nil {
		return err
	}
	var config *tls.Config
	if file := c.String("tls"); file != "" {
		cert, err := tls.LoadX509KeyPair(file, file)
		if err != nil {
			return usage("--tls %s: %v", file, err)
		}
		config = &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}
	}
	if err := loopback(c.String("listen"), config != nil); err != nil {
		return err
	}
	until := time.Time{}
	if text := c.String("for"); text != "" {
		d, err := address.ParseDistance(text)
		if err != nil || d <= 0 {
			return usage("--for %s: write a time such as 40m", text)
		}
		until = time.Now().Add(d)
	}
	e, err := a.atMoment(ctx, c, ad)
	if err != nil {
		return err
	}
	defer e.progress.Done()
	if err := serve.Served(e.moment.Point.Engine); err != nil {
		return err
	}
	content, err := serve.Open(ctx, e.Runner, e.moment, ad.Pattern)
	if err != nil {
		return err
	}
	defer content.Close()
	e.progress.Done()
	l, err := net.Listen("tcp", c.String("listen"))
	if err != nil {
		return err
	}
	defer l.Close()
	o := serve.Options{User: "reader", Password: newPassword(), Version: "dexamen " + Version}
	if !a.screen.Quiet {
		o.Log = func(format string, args ...any) {
			a.screen.Note("%s  %s", time.Now().Format(time.TimeOnly), fmt.Sprintf(format, args...))
		}
	}
	uri := l.Addr().String()
	if e.moment.Point.Engine == "document" {
		uri = fmt.Sprintf("mongodb://%s:%s@%s/?authSource=admin&directConnection=true", o.User, o.Password, l.Addr())
		if config != nil {
			uri += "&tls=true"
		}
	}
	if config != nil {
		l = tls.NewListener(l, config)
	}
	if a.screen.JSON {
		out := map[string]any{"uri": uri, "user": o.User, "password": o.Password, "address": l.Addr().String(),
			"moment": e.moment.Time, "namespaces": content.Names()}
		if !until.IsZero() {
			out["until"] = until
		}
		if err := a.screen.Encode(out); err != nil {
			return err
		}
	} else {
		s := a.screen
		s.Line("%s, read only:", e.moment)
		s.Line("  %s", s.Accent(uri))
		s.Line("  %s: %s", view.Plural(int64(len(content.Names())), "namespace"),
			cut(strings.Join(content.Names(), ", "), 2*s.Width))
		if !strings.Contains(uri, "@") {
			s.Line("  user %s, password %s", o.User, o.Password)
		}
		s.Line("  the password is for this one time, and is not shown again")
		if until.IsZero() {
			s.Line("  until interrupted")
		} else {
			s.Line("  until %s, or interrupted", view.Time(until))
		}
	}
	sctx := ctx
	if !until.IsZero() {
		var cancel context.CancelFunc
		sctx, cancel = context.WithDeadline(ctx, until)
		defer cancel()
	}
	err = serve.Serve(sctx, content, l, o)
	if err == nil && ctx.Err() == nil && !a.screen.JSON {
		a.screen.Line("the time is over")
	}
	return err
}

// loopback refuses to give away what is protected to whoever can listen on the way.
func loopback(listen string, secure bool) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return usage("--listen %s: write HOST:PORT, as in 127.0.0.1:0", listen)
	}
	ip := net.ParseIP(host)
	if secure || host == "localhost" || ip != nil && ip.IsLoopback() {
		return nil
	}
	return fmt.Errorf(
		"%w: --listen %s can be reached from other machines, and passwords and data would go there as they "+
			"are; say --tls too", run.ErrRefused, listen)
}

func newPassword() string {
	b := make([]byte, 15)
	_, _ = rand.Read(b) // never fails, by its contract
	return strings.ToLower(base32.StdEncoding.EncodeToString(b))
}
