package etcd

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"go.etcd.io/etcd/api/v3/authpb"
	"go.etcd.io/etcd/api/v3/v3rpc/rpctypes"
	clientv3 "go.etcd.io/etcd/client/v3"
	"golang.org/x/sync/errgroup"

	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

// What is beside the keys is kept as JSON: the servers have messages for it only
// as answers.

type leaseValue struct {
	Lease string `json:"lease"` // in hexadecimal, as the servers' own tools write it
	TTL   int64  `json:"ttl"`   // as granted, in seconds
}

type userValue struct {
	User  string   `json:"user"`
	Roles []string `json:"roles"`
}

type roleValue struct {
	Role        string       `json:"role"`
	Permissions []permission `json:"permissions"`
}

type permission struct {
	Type string `json:"type"` // READ, WRITE, READWRITE
	Key  []byte `json:"key"`
	End  []byte `json:"end,omitempty"`
}

func leaseRecord(id, ttl int64) record.Record {
	v, _ := json.Marshal(leaseValue{fmt.Sprintf("%x", id), ttl})
	return record.Record{Key: []byte(place{rev: id}.position()), Value: v}
}

// settingLabel names a record beside the keys.
func settingLabel(value []byte) (string, bool) {
	var v struct{ Lease, User, Role string }
	if json.Unmarshal(value, &v) != nil {
		return "", false
	}
	switch {
	case v.Lease != "":
		return "lease " + v.Lease, true
	case v.User != "":
		return "user " + v.User, true
	}
	return "role " + v.Role, v.Role != ""
}

func settingText(value []byte) (string, bool) { return string(value), json.Valid(value) }

// beside lists what is beside the keys. It is no part of a revision: it is read
// as it is now.
func (c *cluster) beside(ctx context.Context) ([]engine.Namespace, error) {
	cl, err := c.client(ctx, "")
	if err != nil {
		return nil, err
	}
	var out []engine.Namespace
	add := func(name string, kind record.Kind, n int, err error) {
		ns := engine.Namespace{Namespace: record.Namespace{Name: name, Kind: kind}, Shard: c.shard(), Records: int64(n)}
		if err != nil {
			ns.Skip = c.explain(err, name).Error()
		}
		if n > 0 || err != nil {
			out = append(out, ns)
		}
	}
	ids, err := c.leaseIDs(ctx)
	add(leasesName, record.KindSupport, len(ids), err)
	if !c.t.Settings {
		return out, nil
	}
	users, err := ask(ctx, func(ctx context.Context) ([]string, error) {
		ans, err := cl.UserList(ctx)
		if err != nil {
			return nil, err
		}
		return ans.Users, nil
	})
	add(usersName, record.KindSettings, len(users), err)
	roles, err := ask(ctx, func(ctx context.Context) ([]string, error) {
		ans, err := cl.RoleList(ctx)
		if err != nil {
			return nil, err
		}
		return ans.Roles, nil
	})
	add(rolesName, record.KindSettings, len(roles), err)
	return out, nil
}

func (c *cluster) leaseIDs(ctx context.Context) (ids []int64, err error) {
	cl, err := c.client(ctx, "")
	if err != nil {
		return nil, err
	}
	ids, err = ask(ctx, func(ctx context.Context) (ids []int64, err error) {
		ans, err := cl.Leases(ctx)
		if err == nil {
			for _, l := range ans.Leases {
				ids = append(ids, int64(l.ID))
			}
		}
		return ids, err
	})
	slices.Sort(ids)
	return ids, err
}

// granted asks for how long a lease was granted; zero when it has ended.
func (c *cluster) granted(ctx context.Context, id int64) (ttl int64, err error) {
	cl, err := c.client(ctx, "")
	if err != nil {
		return 0, err
	}
	return ask(ctx, func(ctx context.Context) (ttl int64, err error) {
		ans, err := cl.TimeToLive(ctx, clientv3.LeaseID(id))
		if errors.Is(err, rpctypes.ErrLeaseNotFound) {
			return 0, nil
		}
		if err == nil && ans.TTL > 0 {
			ttl = ans.GrantedTTL
		}
		return ttl, err
	})
}

func (v *view) scanBeside(ctx context.Context, ns engine.Namespace, fn func(record.Record) error) error {
	var recs []record.Record
	var err error
	switch ns.Name {
	case leasesName:
		recs, err = v.leases(ctx)
	case usersName:
		recs, err = v.users(ctx)
	case rolesName:
		recs, err = v.roles(ctx)
	default:
		return fmt.Errorf("cluster %s: %s: %w", v.t.Name, ns.Name, engine.ErrMoved)
	}
	if err != nil {
		return v.fail(v.explain(err, ns.Name))
	}
	for _, r := range recs {
		if err := fn(r); err != nil {
			return err
		}
	}
	return nil
}

func (c *cluster) leases(ctx context.Context) ([]record.Record, error) {
	ids, err := c.leaseIDs(ctx)
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	var out []record.Record
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(8)
	for _, id := range ids {
		g.Go(func() error {
			ttl, err := c.granted(gctx, id)
			if err == nil && ttl > 0 {
				mu.Lock()
				out = append(out, leaseRecord(id, ttl))
				mu.Unlock()
			}
			return err
		})
	}
	err = g.Wait()
	slices.SortFunc(out, func(a, b record.Record) int { return strings.Compare(string(a.Key), string(b.Key)) })
	return out, err
}

func (c *cluster) users(ctx context.Context) ([]record.Record, error) {
	cl, err := c.client(ctx, "")
	if err != nil {
		return nil, err
	}
	list, err := cl.UserList(ctx)
	if err != nil {
		return nil, err
	}
	var out []record.Record
	slices.Sort(list.Users)
	for _, name := range list.Users {
		u, err := cl.UserGet(ctx, name)
		if err != nil {
			return nil, err
		}
		slices.Sort(u.Roles)
		v, _ := json.Marshal(userValue{name, append([]string{}, u.Roles...)})
		out = append(out, record.Record{Key: []byte(name), Value: v})
	}
	return out, nil
}

func (c *cluster) roles(ctx context.Context) ([]record.Record, error) {
	cl, err := c.client(ctx, "")
	if err != nil {
		return nil, err
	}
	list, err := cl.RoleList(ctx)
	if err != nil {
		return nil, err
	}
	var out []record.Record
	slices.Sort(list.Roles)
	for _, name := range list.Roles {
		r, err := cl.RoleGet(ctx, name)
		if err != nil {
			return nil, err
		}
		val := roleValue{Role: name, Permissions: []permission{}}
		for _, p := range r.Perm {
			val.Permissions = append(val.Permissions,
				permission{authpb.Permission_Type_name[int32(p.PermType)], p.Key, p.RangeEnd})
		}
		v, _ := json.Marshal(val)
		out = append(out, record.Record{Key: []byte(name), Value: v})
	}
	return out, nil
}

// PutSetting implements [engine.SettingsWriter]. Servers give out no passwords, so
// that a user is made without one.
func (w *writer) PutSetting(ctx context.Context, ns record.Namespace, rec record.Record,
	replace bool) (engine.Outcome, error) {
	read := map[string]func(context.Context) ([]record.Record, error){usersName: w.users, rolesName: w.roles}[ns.Name]
	if read == nil {
		return "", fmt.Errorf("%s is no setting of an etcd cluster", ns.Name)
	}
	now, err := read(ctx)
	if err != nil {
		return "", w.fail(w.explain(err, ns.Name))
	}
	did := engine.Created
	for _, r := range now {
		if string(r.Key) != string(rec.Key) {
			continue
		}
		switch {
		case string(r.Value) == string(rec.Value):
			return engine.Unchanged, nil
		case !replace:
			return engine.KeptExisting, nil
		}
		did = engine.Replaced
	}
	if ns.Name == usersName {
		err = w.putUser(ctx, rec.Value, did)
		if did == engine.Created {
			did = engine.CreatedWithoutPassword
		}
	} else {
		err = w.putRole(ctx, rec.Value, did)
	}
	return did, w.fail(w.explain(err, ns.Name))
}

func (w *writer) putUser(ctx context.Context, value []byte, did engine.Outcome) error {
	var u userValue
	if err := json.Unmarshal(value, &u); err != nil {
		return err
	}
	if did == engine.Created {
		if _, err := w.cl.UserAddWithOptions(ctx, u.User, "", &clientv3.UserAddOptions{NoPassword: true}); err != nil {
			return err
		}
	}
	now, err := w.cl.UserGet(ctx, u.User)
	if err != nil {
		return err
	}
	for _, r := range now.Roles {
		if !slices.Contains(u.Roles, r) {
			if _, err := w.cl.UserRevokeRole(ctx, u.User, r); err != nil {
				return err
			}
		}
	}
	for _, r := range u.Roles {
		if !slices.Contains(now.Roles, r) {
			if _, err := w.cl.UserGrantRole(ctx, u.User, r); err != nil {
				return err
			}
		}
	}
	return nil
}

func (w *writer) putRole(ctx context.Context, value []byte, did engine.Outcome) error {
	var r roleValue
	if err := json.Unmarshal(value, &r); err != nil {
		return err
	}
	if did == engine.Created {
		if _, err := w.cl.RoleAdd(ctx, r.Role); err != nil {
			return err
		}
	}
	now, err := w.cl.RoleGet(ctx, r.Role)
	if err != nil {
		return err
	}
	for _, p := range now.Perm {
		if _, err := w.cl.RoleRevokePermission(ctx, r.Role, string(p.Key), string(p.RangeEnd)); err != nil {
			return err
		}
	}
	for _, p := range r.Permissions {
		if _, err := w.cl.RoleGrantPermission(ctx, r.Role, string(p.Key), string(p.End),
			clientv3.PermissionType(authpb.Permission_Type_value[p.Type])); err != nil {
			return err
		}
	}
	return nil
}
