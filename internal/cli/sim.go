package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/demo"
	"dexamen/internal/sim/docsim"
	"dexamen/internal/sim/s3sim"
	"dexamen/internal/sim/searchsim"
	"dexamen/internal/workers"
)

func (a *app) simCommand() *cli.Command {
	return a.command(try, "sim", "", "run a stand-in cluster or object store to play with, until interrupted",
		"Speaks the MongoDB wire protocol on loopback ports, keeps everything in memory, and keeps a log:\na "+
			"replica set, or with --shards a sharded cluster. With --bucket it is an object store that\nspeaks the "+
			"S3 protocol instead, with --search a search cluster that speaks the\nOpenSearch REST API, "+
			"with --nats a server by which workers share work.\n\nA "+
			"cluster of documents takes lines at its standard "+
			"input, to rehearse what happens to real ones:\n"+docsim.ControlHelp+
			"; of a replica set with\n--documents also "+demo.HappenHelp,
		func(ctx context.Context, c *cli.Command) error {
			if err := args(c, 0, 0); err != nil {
				return err
			}
			opt := docsim.Options{Name: c.String("name"), Members: c.Int("members"), FirstPort: c.Int("port"),
				Lone: c.Bool("standalone"), Version: c.String("server-version"),
				User: c.String("user"), LogBytes: int64(c.Int("log-mib")) << 20}
			if n := c.Int("shards"); n < 0 || n > 100 {
				return usage("--shards %d: give a number from 0 to 100", n)
			}
			if err := docsim.CheckVersion(opt.Version); err != nil {
				return usage("--server-version: %v", err)
			}
			if opt.Members < 1 || opt.Members > 50 {
				return usage("--members %d: give a number from 1 to 50", opt.Members)
			}
			if opt.User != "" {
				if opt.Password = os.Getenv(c.String("secret-env")); opt.Password == "" {
					return usage("--user: the environment has no %s to take the secret from", c.String("secret-env"))
				}
			}
			if c.String("bucket") != "" {
				return a.simObjects(ctx, c, opt)
			}
			if c.Bool("search") {
				return a.simSearch(ctx, c, opt)
			}
			if c.Bool("nats") {
				return a.simNATS(ctx, opt)
			}
			uri, members, control, shut, err := startStandIn(opt, c.Int("shards"))
			if err != nil {
				return err
			}
			defer shut()
			do := control.Do
			if n := c.Int("documents"); n > 0 {
				cl, err := simClient(uri, opt.User, opt.Password)
				if err != nil {
					return err
				}
				defer func() { _ = cl.Disconnect(context.WithoutCancel(ctx)) }()
				if c.Int("shards") == 0 {
					do = func(line string) (string, error) {
						said, known, err := demo.Apiary{Seed: 1, Documents: n}.Happen(ctx, cl, line)
						if known {
							return said, err
						}
						if said, err = control.Do(line); errors.Is(err, docsim.ErrLine) {
							err = fmt.Errorf("%w, %s", err, demo.HappenHelp)
						}
						return said, err
					}
				}
				if err := fillStandIn(ctx, cl, n, c.Int("shards") > 0); err != nil {
					return err
				}
			}
			if a.screen.JSON {
				if err := a.screen.Encode(map[string]any{"address": uri, "members": members}); err != nil {
					return err
				}
			} else {
				a.screen.Line("%s is up at %s", a.screen.Accent(c.String("name")), uri)
			}
			a.controlSim(ctx, do)
			return nil
		},
		&cli.StringFlag{Name: "bucket", Usage: "be an object store with this `BUCKET`"},
		&cli.BoolFlag{Name: "search", Usage: "be a search cluster, with notes of a few days"},
		&cli.BoolFlag{Name: "nats", Usage: "be a server by which workers share work: NATS with JetStream"},
		&cli.BoolFlag{Name: "object-lock", Usage: "the bucket is made for object lock"},
		&cli.StringFlag{Name: "name", Value: "meadow", Usage: "`NAME` of the set"},
		&cli.IntFlag{Name: "members", Value: 3, Usage: "how many members"},
		&cli.IntFlag{Name: "shards", Usage: "make it a sharded cluster of so many, with config servers and a router"},
		&cli.IntFlag{
			Name: "port", Usage: "`PORT` of the first member, the others follow (any that are free, when not given)"},
		&cli.IntFlag{Name: "documents", Usage: "write about so many documents of the demonstration"},
		&cli.IntFlag{Name: "log-mib", Value: 256, Usage: "size of the log"},
		&cli.BoolFlag{Name: "standalone", Usage: "a lone server without a log"},
		&cli.StringFlag{Name: "server-version", Usage: "behave as servers of this `VERSION` do, one of " +
			strings.Join(docsim.ServerVersions, ", ")},
		&cli.StringFlag{Name: "user", Usage: "let in this `USER` only"},
		&cli.StringFlag{Name: "secret-env", Value: "SIM_SECRET", Usage: "environment variable with the user's secret"})
}

// simObjects runs a stand-in object store.
func (a *app) simObjects(ctx context.Context, c *cli.Command, opt docsim.Options) error {
	if opt.User == "" {
		return usage("--bucket needs a --user, the access key, and its secret in the environment variable that " +
			"--secret-env names")
	}
	o, err := s3sim.Start(s3sim.Options{
		Port: opt.FirstPort, Access: opt.User, Secret: opt.Password, Locks: c.Bool("object-lock")})
	if err != nil {
		return err
	}
	defer o.Close()
	o.MakeBucket(c.String("bucket"))
	if a.screen.JSON {
		if err := a.screen.Encode(map[string]any{"endpoint": o.Endpoint(), "bucket": c.String("bucket")}); err != nil {
			return err
		}
	} else {
		a.screen.Line("an object store with bucket %s is up; a store there is configured with:\n  location: "+
			"s3://%[1]s/dexamen\n  endpoint: %[2]s\n  path_style: true\n  region: us-east-1\n  login: { user: "+
			"%[3]s, secret: { env: %[4]s } }",
			c.String("bucket"), o.Endpoint(), opt.User, c.String("secret-env"))
	}
	<-ctx.Done()
	return nil
}

// simSearch runs a stand-in search cluster.
func (a *app) simSearch(ctx context.Context, c *cli.Command, opt docsim.Options) error {
	name := "clover"
	if c.IsSet("name") {
		name = opt.Name
	}
	s, err := searchsim.Start(searchsim.Options{Name: name, Nodes: opt.Members, FirstPort: opt.FirstPort,
		User: opt.User, Password: opt.Password})
	if err != nil {
		return err
	}
	defer s.Close()
	if n := c.Int("documents"); n > 0 {
		if opt.User != "" {
			return usage("--documents is for clusters that let everybody in")
		}
		const days = 4
		notes := demo.Fieldnotes{Seed: 1, Days: days, Until: time.Now(), Notes: max(1, n/days)}
		if err := notes.Fill(ctx, s.URL()); err != nil {
			return err
		}
	}
	if a.screen.JSON {
		if err := a.screen.Encode(map[string]any{"address": s.Address(), "members": s.Addresses()}); err != nil {
			return err
		}
	} else {
		a.screen.Line("%s is up at %s", a.screen.Accent(name), s.Address())
	}
	<-ctx.Done()
	return nil
}

// simNATS runs a server by which workers share work.
func (a *app) simNATS(ctx context.Context, opt docsim.Options) error {
	s, err := workers.Serve(opt.FirstPort)
	if err != nil {
		return err
	}
	defer s.Close()
	if a.screen.JSON {
		if err := a.screen.Encode(map[string]any{"address": s.Address()}); err != nil {
			return err
		}
	} else {
		a.screen.Line("a NATS server with JetStream is up; workers find it with:\n  workers: { servers: [%q] }",
			s.Address())
	}
	<-ctx.Done()
	return nil
}

// startStandIn runs a replica set, or a sharded cluster.
func startStandIn(opt docsim.Options, shards int) (uri string, members []string, control *docsim.Control, shut func(),
	err error) {
	if shards == 0 {
		rs, err := docsim.Start(opt)
		if err != nil {
			return "", nil, nil, nil, err
		}
		return rs.URI(), rs.Addresses(), rs.Control(), rs.Close, nil
	}
	c, err := docsim.StartSharded(docsim.ShardedOptions{
		Name: opt.Name, Shards: shards, Members: opt.Members, FirstPort: opt.FirstPort, Set: opt})
	if err != nil {
		return "", nil, nil, nil, err
	}
	members = c.Config().Addresses()
	for i := range shards {
		members = append(members, c.Shard(i).Addresses()...)
	}
	return c.URI(), members, c.Control(), c.Close, nil
}

// controlSim carries out the lines of standard input, until it is interrupted.
func (a *app) controlSim(ctx context.Context, do func(line string) (string, error)) {
	go func() {
		for {
			line, err := a.in.ReadString('\n')
			if err != nil {
				return
			}
			said, err := do(line)
			if err != nil {
				said = "! " + err.Error()
			}
			for l := range strings.SplitSeq(said, "\n") {
				if l != "" {
					a.screen.Note("%s", l)
				}
			}
		}
	}()
	<-ctx.Done()
}

func fillStandIn(ctx context.Context, cl *mongo.Client, documents int, sharded bool) error {
	if sharded {
		return demo.Telemetry{Seed: 1, Documents: documents}.Fill(ctx, cl)
	}
	return demo.Apiary{Seed: 1, Documents: documents}.Fill(ctx, cl)
}

func simClient(uri, user, password string) (*mongo.Client, error) {
	opt := options.Client().ApplyURI(uri)
	if user != "" {
		opt.SetAuth(options.Credential{Username: user, Password: password, AuthSource: "admin"})
	}
	return mongo.Connect(opt)
}
