package tour

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/demo"
	"dexamen/internal/sim/docsim"
)

// orchard is the part of the demonstration on a sharded cluster: a point that
// is of one moment on all shards while ranges move between them, and a restore
// of one collection onto a cluster of another kind.
func (p *Tour) orchard() error {
	secret := os.Getenv(demoSecret)
	set := docsim.Options{User: "dexamen", Password: secret, NoopEvery: 400 * time.Millisecond}
	c, err := docsim.StartSharded(docsim.ShardedOptions{Name: "orchard", Set: set})
	if err != nil {
		return err
	}
	p.ends = append(p.ends, c.Close)
	cl, err := p.Connect(c.URI(), "dexamen", secret)
	if err != nil {
		return err
	}
	defer func() { _ = cl.Disconnect(context.WithoutCancel(p.ctx)) }()
	set.Name = "paddock"
	scratch, err := docsim.Start(set)
	if err != nil {
		return err
	}
	p.ends = append(p.ends, scratch.Close)
	more := ""
	for name, uri := range map[string]string{"orchard": c.URI(), "paddock": scratch.URI()} {
		more += fmt.Sprintf(
			"  %s:\n    address: %s\n    login: { user: dexamen, secret: { env: %s } }\n    store: larder\n", name,
			uri, demoSecret)
	}
	was, err := os.ReadFile(p.config)
	if err != nil {
		return err
	}
	if err := os.WriteFile(p.config, append(was, more...), 0o600); err != nil {
		return err
	}
	p.say("The cooperative's second cluster, orchard, is sharded: readings lie on two shards, by colony. One " +
		"router's address is enough.")
	data := demo.Telemetry{Seed: 1, Documents: p.apiary.Documents / 2}
	if err := data.Fill(p.ctx, cl); err != nil {
		return err
	}
	if err := p.do(done, "cluster", "inspect", "orchard"); err != nil {
		return err
	}
	p.say("A point of both shards at one cluster time, while gateways write and a range of readings moves from " +
		"shard to shard.")
	busy := make(chan error, 1)
	go func() {
		raw, _ := bson.Marshal(bson.D{{Key: "colony", Value: int32(1)}})
		err := c.Move(demo.TelemetryDatabase+".readings", raw, c.Shards()[1],
			docsim.MoveOptions{Pause: time.Millisecond})
		if err == nil {
			err = data.Work(p.ctx, cl, 2, 300)
		}
		busy <- err
	}()
	if err := p.do(done, "snapshot", "orchard"); err != nil {
		return err
	}
	if err := <-busy; err != nil {
		return err
	}
	time.Sleep(20 * time.Millisecond)
	before := time.Now().Truncate(time.Millisecond)
	time.Sleep(20 * time.Millisecond)
	p.say("Somebody clears a season too many: all readings above 50 kg are gone, on both shards.")
	if _, err := cl.Database(demo.TelemetryDatabase).Collection("readings").DeleteMany(p.ctx,
		bson.D{{Key: "kg", Value: bson.D{{Key: "$gt", Value: 50}}}}); err != nil {
		return err
	}
	for _, line := range []string{"capture orchard", "snapshot orchard", "capture orchard", "verify orchard@latest"} {
		if err := p.do(done, strings.Fields(line)...); err != nil {
			return err
		}
	}
	moment := "orchard@" + stamp(before) + "/telemetry.readings"
	if err := p.do(differs, "compare", moment, "orchard@live/telemetry.readings", "--show", "2"); err != nil {
		return err
	}
	p.say("The readings as they were come back beside, sharded as they were; and, for a closer look, onto paddock, " +
		"a replica set.")
	if err := p.do(done, "restore", moment, "--rename", "telemetry.readings=telemetry.readings_restored",
		"--yes"); err != nil {
		return err
	}
	if err := p.do(done, "restore", moment, "--to", "paddock", "--yes"); err != nil {
		return err
	}
	return p.do(done, "verify", moment, "--live", "paddock")
}
