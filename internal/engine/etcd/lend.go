package etcd

import (
	"context"
	"errors"
	"fmt"

	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"

	"dexamen/internal/engine"
	"dexamen/internal/engine/keyprefix"
)

// lentPrefix returns what the keys of a namespace that is lent begin with.
func lentPrefix(part string) ([]byte, error) {
	prefix, flat, err := keyprefix.Cut{Sep: '/'}.Range(part)
	switch {
	case err != nil:
		return nil, err
	case len(prefix) == 0:
		return nil, fmt.Errorf("%s begins with nothing that a login could be kept to", part)
	case flat:
		return nil, fmt.Errorf("a login cannot be kept to the keys %s, without those below them", part)
	}
	return prefix, nil
}

// Lend implements [engine.Lender]: a user with a role of its own, of the same name.
func (c *cluster) Lend(ctx context.Context, l engine.Loan) error {
	prefix, err := lentPrefix(l.Part)
	if err != nil {
		return err
	}
	cl, err := c.client(ctx, "")
	if err != nil {
		return err
	}
	// Servers before 3.5 do not say whether they ask for logins.
	anyone := c.as("", "")
	defer func() { _ = anyone.Close() }()
	if a, err := anyone.client(ctx, ""); err == nil {
		if _, err := a.Get(ctx, string(prefix), clientv3.WithLimit(1)); err == nil {
			return fmt.Errorf("cluster %s: %w", c.t.Name, engine.ErrOpenToAll)
		}
	}
	may := clientv3.PermissionType(clientv3.PermRead)
	if l.Write {
		may = clientv3.PermissionType(clientv3.PermReadWrite)
	}
	if _, err := cl.RoleAdd(ctx, l.User); err != nil {
		return c.lendFailed(err)
	}
	if _, err := cl.RoleGrantPermission(ctx, l.User, string(prefix), clientv3.GetPrefixRangeEnd(string(prefix)),
		may); err != nil {
		return c.lendFailed(err)
	}
	if _, err := cl.UserAdd(ctx, l.User, l.Password); err != nil {
		return c.lendFailed(err)
	}
	_, err = cl.UserGrantRole(ctx, l.User, l.User)
	return c.lendFailed(err)
}

func (c *cluster) lendFailed(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("cluster %s: %w", c.t.Name, c.explain(err, "logins"))
}

// as returns the cluster with another login; an empty one is nobody's.
func (c *cluster) as(user, password string) *cluster {
	as := &cluster{t: c.t, tls: c.tls, clients: map[string]*login{}, members: c.list()}
	as.t.User, as.t.Secret, as.t.ByCertificate = user, password, false
	return as
}

// TryLoan implements [engine.Lender].
func (c *cluster) TryLoan(ctx context.Context, l engine.Loan) error {
	prefix, err := lentPrefix(l.Part)
	if err != nil {
		return err
	}
	as := c.as(l.User, l.Password)
	defer func() { _ = as.Close() }()
	cl, err := as.client(ctx, "")
	if err != nil {
		return err
	}
	key, end := string(prefix), clientv3.GetPrefixRangeEnd(string(prefix))
	if _, err := cl.Get(ctx, key, clientv3.WithRange(end), clientv3.WithLimit(1)); err != nil {
		return fmt.Errorf("the login does not reach %s: %w", l.Part, as.explain(err, "it"))
	}
	refused := func(what string, err error) error {
		if errors.Is(err, rpctypes.ErrPermissionDenied) {
			return nil
		}
		if err == nil {
			err = errors.New("the cluster did not refuse it")
		}
		return fmt.Errorf("the login is not kept to %s: %s: %w", l.Part, what, err)
	}
	_, err = cl.Get(ctx, "\x00", clientv3.WithFromKey(), clientv3.WithLimit(1))
	if err := refused("it reads all keys", err); err != nil {
		return err
	}
	_, err = cl.Get(ctx, end)
	if err := refused("it reads the key after its last", err); err != nil {
		return err
	}
	// What is never done is asked for all the same: a key's version is no negative number.
	_, err = cl.Txn(ctx).If(clientv3.Compare(clientv3.Version(key), "<", 0)).
		Then(clientv3.OpPut(key+"dexamen", "")).Commit()
	if l.Write {
		return as.explain(err, "writing "+l.Part)
	}
	return refused("it may write", err)
}

// EndLoan implements [engine.Lender].
func (c *cluster) EndLoan(ctx context.Context, user string) error {
	cl, err := c.client(ctx, "")
	if err != nil {
		return err
	}
	if _, err := cl.UserDelete(ctx, user); err != nil && !errors.Is(err, rpctypes.ErrUserNotFound) {
		return c.lendFailed(err)
	}
	if _, err := cl.RoleDelete(ctx, user); err != nil && !errors.Is(err, rpctypes.ErrRoleNotFound) {
		return c.lendFailed(err)
	}
	return nil
}

var _ engine.Lender = (*cluster)(nil)
