package redis

import (
	"context"
	"errors"
	"fmt"
	"strings"

	goredis "github.com/redis/go-redis/v9"

	"dexamen/internal/engine"
)

// lentKeys returns what the keys that are lent begin with.
func lentKeys(part string) ([]byte, error) {
	db, prefix, flat, err := split(part)
	switch {
	case err != nil:
		return nil, err
	case db != 0:
		return nil, fmt.Errorf("a login begins in database 0 and cannot be kept to database %d", db)
	case flat:
		return nil, fmt.Errorf("a login cannot be kept to the keys %s, without those below them", part)
	}
	return prefix, nil
}

// lentCommands are what a login may say beside reading: what clients send when they begin, and
// nothing that tells of other keys or of the server.
var lentCommands = []string{"+ping", "+hello", "+auth", "+quit", "+echo", "+reset", "+client|setname",
	"+client|getname", "+client|id", "+readonly", "+readwrite", "+cluster|slots", "+cluster|shards",
	"+cluster|nodes", "+multi", "+exec", "+discard", "+watch", "+unwatch"}

// rulesFor returns the rules of a login ("ACL SETUSER").
func rulesFor(l engine.Loan, prefix []byte) []any {
	rules := []any{"reset", "resetchannels", "on", ">" + l.Password, "~" + escapeGlob(string(prefix)) + "*", "+@read"}
	if l.Write {
		rules = append(rules, "+@write")
	}
	rules = append(rules, "-@dangerous", "-@blocking", "-select", "-swapdb", "-move")
	if len(prefix) > 0 { // they name keys of others
		rules = append(rules, "-scan", "-randomkey", "-dbsize")
	}
	for _, c := range lentCommands {
		rules = append(rules, c)
	}
	return rules
}

// escapeGlob returns a pattern that a text alone fits.
func escapeGlob(s string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`, `]`, `\]`).Replace(s)
}

// servers returns every member of every shard: each keeps logins of its own.
func (c *cluster) servers(ctx context.Context) ([]string, error) {
	if err := c.discover(ctx); err != nil {
		return nil, c.fail(err)
	}
	var out []string
	for _, s := range c.list() {
		out = append(out, c.membersOf(s)...)
	}
	return out, nil
}

// Lend implements [engine.Lender].
func (c *cluster) Lend(ctx context.Context, l engine.Loan) error {
	prefix, err := lentKeys(l.Part)
	if err != nil {
		return err
	}
	list, err := c.servers(ctx)
	if err != nil {
		return err
	}
	for _, addr := range list {
		o := c.options(addr)
		o.Username, o.Password = "", ""
		anyone := goredis.NewClient(o)
		_, err := ask(ctx, func(ctx context.Context) (string, error) { return anyone.Ping(ctx).Result() })
		_ = anyone.Close()
		if err == nil {
			return c.fail(fmt.Errorf("%s: %w", addr, engine.ErrOpenToAll))
		}
	}
	for _, addr := range list {
		args := append([]any{"ACL", "SETUSER", l.User}, rulesFor(l, prefix)...)
		if _, err := ask(ctx, func(ctx context.Context) (any, error) {
			return c.client(addr).Do(ctx, args...).Result()
		}); err != nil {
			return c.fail(c.explain(err, addr))
		}
	}
	return nil
}

// TryLoan implements [engine.Lender].
func (c *cluster) TryLoan(ctx context.Context, l engine.Loan) error {
	prefix, err := lentKeys(l.Part)
	if err != nil {
		return err
	}
	list, err := c.servers(ctx)
	if err != nil {
		return err
	}
	for _, addr := range list {
		if err := c.tryLoan(ctx, l, addr, string(prefix)); err != nil {
			return c.fail(fmt.Errorf("%s: %w", addr, err))
		}
	}
	return nil
}

// tryLoan tries a login on one server, with keys that are nobody's.
func (c *cluster) tryLoan(ctx context.Context, l engine.Loan, addr, prefix string) error {
	o := c.options(addr)
	o.Username, o.Password = l.User, l.Password
	cl := goredis.NewClient(o)
	defer func() { _ = cl.Close() }()
	do := func(args ...any) error {
		_, err := ask(ctx, func(ctx context.Context) (any, error) { return cl.Do(ctx, args...).Result() })
		if errors.Is(err, goredis.Nil) || err != nil && strings.HasPrefix(err.Error(), "MOVED ") {
			return nil // it is let, and another server has the key
		}
		return err
	}
	const nobodys = "dexamen: a key that is not there"
	if err := do("GET", prefix+nobodys); err != nil {
		return fmt.Errorf("the login does not reach %s: %w", l.Part, err)
	}
	refused := [][]any{{"CONFIG", "GET", "port"}, {"ACL", "LIST"}, {"SELECT", "1"}, {"KEYS", "*"}}
	if prefix != "" {
		refused = append(refused, []any{"GET", "\x00" + nobodys}, []any{"SCAN", "0"}, []any{"RANDOMKEY"})
	}
	// It changes nothing where it is allowed: there is no such key.
	if write := []any{"PERSIST", prefix + nobodys}; !l.Write {
		refused = append(refused, write)
	} else if err := do(write...); err != nil && !strings.HasPrefix(err.Error(), "READONLY") {
		return fmt.Errorf("the login may not write to %s: %w", l.Part, err)
	}
	for _, args := range refused {
		err := do(args...)
		if err == nil {
			err = errors.New("the server did not refuse it")
		}
		if !strings.HasPrefix(err.Error(), "NOPERM") {
			return fmt.Errorf("the login is not kept to %s: %s: %w", l.Part, args[0], err)
		}
	}
	return nil
}

// EndLoan implements [engine.Lender]. Every server must say that it is gone. What a server keeps in
// a file of logins is not written anew: that would keep what others have not saved.
func (c *cluster) EndLoan(ctx context.Context, user string) error {
	list, err := c.servers(ctx)
	if err != nil {
		return err
	}
	var errs []error
	for _, addr := range list {
		_, err := ask(ctx, func(ctx context.Context) (any, error) {
			return c.client(addr).Do(ctx, "ACL", "DELUSER", user).Result()
		})
		if err != nil {
			errs = append(errs, c.explain(err, addr))
		}
	}
	if len(errs) > 0 {
		return c.fail(errors.Join(errs...))
	}
	return nil
}

var _ engine.Lender = (*cluster)(nil)
