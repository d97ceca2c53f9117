package tour

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	goredis "github.com/redis/go-redis/v9"
	clientv3 "go.etcd.io/etcd/client/v3"
	"go.uber.org/zap"

	"dexamen/internal/core/address"
	"dexamen/internal/demo"
)

// keyValue is the part of the demonstration on real servers of key-value
// clusters, where they are installed.
func (p *Tour) keyValue() error {
	if err := p.willow(); err != nil {
		return err
	}
	return p.bramble()
}

// server runs an installed server until the demonstration ends; ok false: there
// is none.
func (p *Tour) server(name string, ports int, args func(addrs []string) []string) (addrs []string, ok bool, err error) {
	path, err := exec.LookPath(name)
	if err != nil {
		return nil, false, nil
	}
	var held []net.Listener // all at once, so that they differ
	for range ports {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, true, err
		}
		held = append(held, l)
		addrs = append(addrs, l.Addr().String())
	}
	for _, l := range held {
		_ = l.Close() // before the server wants them
	}
	dir := filepath.Join(p.Dir, name)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, true, err
	}
	cmd := exec.Command(path, args(addrs)...)
	cmd.Dir = dir
	return addrs, true, p.begin(cmd)
}

// begin starts a server that ends with the demonstration.
func (p *Tour) begin(cmd *exec.Cmd) error {
	if err := cmd.Start(); err != nil {
		return err
	}
	p.ends = append(p.ends, func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	return nil
}

// register adds a cluster to the configuration.
func (p *Tour) register(text string) error {
	was, err := os.ReadFile(p.config)
	if err != nil {
		return err
	}
	return os.WriteFile(p.config, append(was, text...), 0o600)
}

// upTo tries until a server answers.
func (p *Tour) upTo(try func(ctx context.Context) error) (err error) {
	for range 100 {
		ctx, cancel := context.WithTimeout(p.ctx, time.Second)
		err = try(ctx)
		cancel()
		if err == nil || p.ctx.Err() != nil {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
	return err
}

func (p *Tour) willow() error {
	addrs, ok, err := p.server("etcd", 2, func(a []string) []string {
		client, peer := "http://"+a[0], "http://"+a[1]
		return []string{"--name", "willow", "--data-dir", "data", "--listen-client-urls", client,
			"--advertise-client-urls", client, "--listen-peer-urls", peer,
			"--initial-advertise-peer-urls", peer, "--initial-cluster", "willow=" + peer, "--logger", "zap",
			"--log-level", "error"}
	})
	if err != nil {
		return err
	}
	if !ok {
		p.say("Key-value clusters too: willow would be an etcd cluster, but no etcd is installed here (Debian's " +
			"package etcd-server).")
		return nil
	}
	cl, err := clientv3.New(clientv3.Config{Endpoints: addrs[:1], DialTimeout: 5 * time.Second, Logger: zap.NewNop()})
	if err != nil {
		return err
	}
	defer cl.Close()
	if err := p.upTo(func(ctx context.Context) error { _, err := cl.Get(ctx, "x"); return err }); err != nil {
		return err
	}
	if err := (demo.Gateways{Seed: 1, Gateways: 300}).Fill(p.ctx, cl); err != nil {
		return err
	}
	if err := p.register(fmt.Sprintf("  willow:\n    address: etcd://%s\n    store: larder\n", addrs[0])); err != nil {
		return err
	}
	p.say("Key-value clusters too: willow, a real etcd server, holds the gateways' configuration.")
	for _, line := range []string{"cluster inspect willow", "snapshot willow"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	p.say("Somebody deletes all gateways of the north yard, and one route is spoilt. The point from before, " +
		"compared with now:")
	if _, err := cl.Delete(p.ctx, "/gateways/north", clientv3.WithPrefix()); err != nil {
		return err
	}
	if _, err := cl.Put(p.ctx, "/routes/007", "?"); err != nil {
		return err
	}
	if err := p.do(done, "capture", "willow"); err != nil {
		return err
	}
	if err := p.do(differs, "compare", p.firstPoint("willow"), "willow@live", "--show", "2"); err != nil {
		return err
	}
	p.say("In place, only what differs is written: those who watch see no other key change.")
	if err := p.do(done, "restore", p.firstPoint("willow")+"//gateways/", "--conflict", "replace",
		"--yes"); err != nil {
		return err
	}
	return p.do(done, "verify", p.firstPoint("willow")+"//gateways/", "--live", "willow")
}

// firstPoint returns the address of a cluster's first point.
func (p *Tour) firstPoint(cluster string) string {
	s := *p.Screen
	var out bytes.Buffer
	s.Out = &out
	p.Command(p.ctx, []string{"dexamen", "--config", p.config, "points", cluster}, &s)
	for _, w := range strings.Fields(out.String()) {
		if when, err := address.ParseWhen(w, time.Now()); err == nil && when.Kind == address.Point &&
			strings.Count(w, "-") == 2 {
			return cluster + "@" + w
		}
	}
	return cluster + "@latest"
}

func (p *Tour) bramble() error {
	begin := func(dir string) (string, bool, error) {
		addrs, ok, err := p.server("redis-server", 1, func(a []string) []string {
			host, port, _ := net.SplitHostPort(a[0])
			return []string{"--bind", host, "--port", port, "--save", "", "--appendonly", "no",
				"--repl-diskless-sync-delay", "0", "--repl-backlog-size", "64mb", "--logfile", dir + ".log"}
		})
		if !ok || err != nil {
			return "", ok, err
		}
		return addrs[0], ok, nil
	}
	from, ok, err := begin("bramble")
	if err != nil {
		return err
	}
	if !ok {
		p.say("And bramble would be a Redis server, but none is installed here (Debian's package redis-server).")
		return nil
	}
	to, _, err := begin("hedge")
	if err != nil {
		return err
	}
	bench, _, err := begin("bench")
	if err != nil {
		return err
	}
	var clients []*goredis.Client
	for _, addr := range []string{from, to, bench} {
		c := goredis.NewClient(&goredis.Options{Addr: addr})
		defer c.Close()
		clients = append(clients, c)
		if err := p.upTo(func(ctx context.Context) error { return c.Ping(ctx).Err() }); err != nil {
			return err
		}
	}
	cl := clients[0]
	if err := (demo.Market{Seed: 1, Stalls: 400}).Fill(p.ctx, cl); err != nil {
		return err
	}
	entry := "  %s:\n    address: redis://%s\n    options: { prefix_depth: 1 }\n    store: larder\n"
	if err := p.register(fmt.Sprintf(entry+"    scratch: bench\n"+entry+entry, "bramble", from, "hedge", to, "bench",
		bench)); err != nil {
		return err
	}
	p.say("And bramble, a real Redis server: the market's stalls, orders, price boards and sales.")
	for _, line := range []string{"cluster inspect bramble", "snapshot bramble"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	for i := range 50 {
		if err := cl.LPush(p.ctx, fmt.Sprint("orders:", i), "1 x wax").Err(); err != nil {
			return err
		}
	}
	if err := p.do(done, "capture", "bramble"); err != nil {
		return err
	}
	time.Sleep(50 * time.Millisecond)
	p.say("Its log is of commands, which a server has to carry out. To look at the moment after the last order, " +
		"Dexamen borrows the one named as bramble's scratch: and gives it back empty.")
	for _, line := range []string{"browse bramble@latest/db0/orders: --show 2",
		"compare " + p.firstPoint("bramble") + " bramble@latest"} {
		want := done
		if strings.HasPrefix(line, "compare") {
			want = differs
		}
		if err := p.do(want, strings.Fields(line)...); err != nil {
			return err
		}
	}
	p.say("And restored: the point, and then each command since.")
	if err := p.do(done, "restore", "bramble@latest/db0/orders:", "--to", "hedge", "--yes"); err != nil {
		return err
	}
	if err := p.do(done, "compare", "hedge@live/db0/orders:", "bramble@live/db0/orders:"); err != nil {
		return err
	}
	return p.do(done, "browse", p.firstPoint("bramble")+"/db0/prices:")
}
