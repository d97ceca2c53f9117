package document

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/engine"
)

// Codes of servers ("Error Codes").
const (
	codeUserNotFound    = 11
	codeUnauthorized    = 13
	codeCommandNotFound = 59
)

// lending returns what writes users: the primary, or a router.
func (c *cluster) lending(ctx context.Context) (*writer, error) {
	s := c.routers
	if s == nil {
		s = c.sets[c.order[0]]
	}
	w, err := s.writer(ctx)
	if err != nil {
		return nil, err
	}
	return w.(*writer), nil
}

// clientAs returns a connection to the member that is written to with another login; a nil one
// is nobody's.
func (w *writer) clientAs(auth *options.Credential) (*mongo.Client, error) {
	o := *w.c.base
	o.Hosts, o.ReplicaSet, o.Auth = []string{w.addr}, nil, auth
	p := &o
	p.SetDirect(true).SetServerSelectionTimeout(patience).SetConnectTimeout(probeTime).SetAppName("dexamen").
		SetMaxPoolSize(1)
	return mongo.Connect(p)
}

// Lend implements [engine.Lender]: a user of admin with one of the roles that servers have.
func (c *cluster) Lend(ctx context.Context, l engine.Loan) error {
	if slices.Contains([]string{"admin", "config", "local"}, l.Part) {
		return fmt.Errorf("database %s is the servers' own and is not lent", l.Part)
	}
	w, err := c.lending(ctx)
	if err != nil {
		return err
	}
	anyone, err := w.clientAs(nil)
	if err != nil {
		return err
	}
	defer func() { _ = anyone.Disconnect(context.WithoutCancel(ctx)) }()
	if err := anyone.Database(l.Part).RunCommand(ctx, find("dexamen")).Err(); err == nil {
		return fmt.Errorf("cluster %s: %s: %w", c.t.Name, w.addr, engine.ErrOpenToAll)
	}
	role := "read"
	if l.Write {
		role = "readWrite"
	}
	err = w.run(ctx, "admin", bson.D{{Key: "createUser", Value: l.User}, {Key: "pwd", Value: l.Password},
		{Key: "roles", Value: bson.A{bson.D{{Key: "role", Value: role}, {Key: "db", Value: l.Part}}}}})
	if err != nil {
		return w.fail("user "+l.User, err)
	}
	return nil
}

// TryLoan implements [engine.Lender].
func (c *cluster) TryLoan(ctx context.Context, l engine.Loan) error {
	w, err := c.lending(ctx)
	if err != nil {
		return err
	}
	cl, err := w.clientAs(&options.Credential{Username: l.User, Password: l.Password, PasswordSet: true,
		AuthSource: "admin"})
	if err != nil {
		return err
	}
	defer func() { _ = cl.Disconnect(context.WithoutCancel(ctx)) }()
	as := func(db string, cmd bson.D) error { return cl.Database(db).RunCommand(ctx, cmd).Err() }
	if err := as(l.Part, bson.D{{Key: "listCollections", Value: 1}, {Key: "nameOnly", Value: true}}); err != nil {
		return fmt.Errorf("the login does not reach %s: %w", l.Part, explain(w.addr, err))
	}
	refused := func(what, db string, cmd bson.D) error {
		err := as(db, cmd)
		if codeOf(err) == codeUnauthorized {
			return nil
		}
		if err == nil {
			err = errors.New("the server did not refuse it")
		}
		return fmt.Errorf("the login is not kept to %s: %s: %w", l.Part, what, err)
	}
	others, err := w.cl.ListDatabaseNames(ctx, bson.D{})
	if err != nil {
		return w.fail("databases", err)
	}
	for _, db := range append(others, "admin", "a_database_that_is_not_there") {
		if db == l.Part {
			continue
		}
		coll := "a_collection"
		if names, err := w.cl.Database(db).ListCollectionNames(ctx, bson.D{}); err == nil && len(names) > 0 {
			coll = names[0]
		}
		if err := refused("it reads "+db, db, find(coll)); err != nil {
			return err
		}
	}
	// It removes nothing where it is allowed: there is no such document.
	remove := bson.D{{Key: "delete", Value: "a_collection_that_is_not_there"}, {Key: "deletes", Value: bson.A{
		bson.D{{Key: "q", Value: bson.D{{Key: "_id", Value: bson.NewObjectID()}}}, {Key: "limit", Value: 1}}}}}
	if l.Write {
		return as(l.Part, remove)
	}
	return refused("it may write", l.Part, remove)
}

// EndLoan implements [engine.Lender].
func (c *cluster) EndLoan(ctx context.Context, user string) error {
	w, err := c.lending(ctx)
	if err != nil {
		return err
	}
	err = w.run(ctx, "admin", bson.D{{Key: "dropUser", Value: user}})
	// A server that has no such command has no users.
	if err != nil && codeOf(err) != codeUserNotFound && codeOf(err) != codeCommandNotFound {
		return w.fail("user "+user, err)
	}
	return nil
}

var _ engine.Lender = (*cluster)(nil)
