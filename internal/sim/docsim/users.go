package docsim

import (
	"crypto/md5"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"slices"

	"github.com/xdg-go/scram"
	"go.mongodb.org/mongo-driver/v2/bson"
)

// usersOf is the collection that holds users ("system.users Collection").
const usersOf = "admin.system.users"

// userDocument returns what is kept of a user; the lock is held.
func (rs *ReplicaSet) userDocument(user string) bson.Raw {
	return rs.userOrRole(usersOf, "admin."+user)
}

// userOrRole returns what is kept under an _id; the lock is held.
func (rs *ReplicaSet) userOrRole(coll, id string) bson.Raw {
	m := rs.members[max(rs.primary, 0)]
	c := m.current.colls[coll]
	if c == nil {
		return nil
	}
	d, _ := c.get(value(id))
	return d.raw
}

// credentials returns what the login of a user is checked against ("SCRAM").
func (rs *ReplicaSet) credentials(user string) (c scram.StoredCredentials, ok bool) {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	d, ok := rs.userDocument(user).Lookup("credentials", rs.opt.Mechanism).DocumentOK()
	if !ok {
		return c, false
	}
	bytes := func(field string) []byte {
		b, _ := base64.StdEncoding.DecodeString(d.Lookup(field).StringValue())
		return b
	}
	n, _ := d.Lookup("iterationCount").AsInt64OK()
	return scram.StoredCredentials{KeyFactors: scram.KeyFactors{Salt: string(bytes("salt")), Iters: int(n)},
		StoredKey: bytes("storedKey"), ServerKey: bytes("serverKey")}, true
}

// may reports whether a user may say a command about a database ("Role-Based Access Control").
// The one who was given at the start may do everything.
func (rs *ReplicaSet) may(user, db, command string, req bson.Raw) bool {
	rs.mu.Lock()
	defer rs.mu.Unlock()
	return rs.mayLocked(user, db, command, req)
}

func (rs *ReplicaSet) mayLocked(user, db, command string, req bson.Raw) bool {
	if user == "" || user == rs.opt.User || rs.opt.Odd.RolesForNothing {
		return true
	}
	list, known := needs(db, command, req)
	if !known {
		return false
	}
	if p := rs.part; p != nil && !p.conf && len(p.c.names) > 1 && rs.opt.major() >= 8 {
		for _, n := range list {
			if n.db != "" && n.db != "admin" && n.db != "local" && n.db != "config" {
				list = append(list, need{action: directly})
				break
			}
		}
	}
	return !slices.ContainsFunc(list, func(n need) bool { return !rs.has(user, n) })
}

// has reports whether a user has a privilege; the lock is held.
func (rs *ReplicaSet) has(user string, n need) bool {
	roles, _ := rs.userDocument(user).Lookup("roles").ArrayOK()
	list, _ := roles.Values()
	return slices.ContainsFunc(list, func(v bson.RawValue) bool { return rs.allowedBy(v.Document(), n) })
}

// lists reports whether a user is shown a database ("listDatabases").
func (rs *ReplicaSet) lists(user, db string) bool {
	return user == "" || user == rs.opt.User || rs.has(user, need{action: "listDatabases"}) ||
		rs.has(user, need{"find", db, ""})
}

// builtIn are the roles that servers have ("Built-In Roles"), as far as the stand-in knows them.
var builtIn = []string{"read", "readWrite", "clusterManager", "directShardOperations"}

func writesOut(req bson.Raw) bool {
	for _, stage := range listOf(req, "pipeline") {
		if d, ok := stage.DocumentOK(); ok && (d.Lookup("$out").Type != 0 || d.Lookup("$merge").Type != 0) {
			return true
		}
	}
	return false
}

// createUser answers createUser, of users of admin and of roles of databases.
func createUser(s *session, db string, req bson.Raw) (bson.D, error) {
	rs := s.m.rs
	name, _ := first(req).StringValueOK()
	password, ok := req.Lookup("pwd").StringValueOK()
	if db != "admin" || name == "" || !ok || password == "" {
		return nil, refuse(2, "BadValue", "this stand-in makes users of admin, with a password")
	}
	if rs.userDocument(name) != nil || name == rs.opt.User {
		return nil, refuse(51003, "Location51003", "User \"%s@admin\" already exists", name)
	}
	roles := bson.A{}
	for _, v := range listOf(req, "roles") {
		role, _ := v.StringValueOK() // of the database of the user
		of := db
		if d, ok := v.DocumentOK(); ok {
			role, _ = d.Lookup("role").StringValueOK()
			of, _ = d.Lookup("db").StringValueOK()
		}
		if !slices.Contains(builtIn, role) && rs.userOrRole(rolesOf, "admin."+role) == nil {
			return nil, refuse(31, "RoleNotFound", "Could not find role: %s@%s", role, of)
		}
		roles = append(roles, bson.D{{Key: "role", Value: role}, {Key: "db", Value: of}})
	}
	kept, err := rs.storedLogin(name, password)
	if err != nil {
		return nil, err
	}
	id := newUUID()
	doc := bson.D{{Key: "_id", Value: "admin." + name}, {Key: "userId", Value: bson.Binary{Subtype: 4, Data: id[:]}},
		{Key: "user", Value: name}, {Key: "db", Value: "admin"},
		{Key: "credentials", Value: bson.D{{Key: rs.opt.Mechanism, Value: kept}}}, {Key: "roles", Value: roles}}
	return bson.D{}, s.insertOne(s.ensure("admin", "system.users"), toRaw(doc))
}

// storedLogin returns the stored form of a login.
func (rs *ReplicaSet) storedLogin(user, password string) (bson.D, error) {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	hash := scram.SHA256
	if rs.opt.Mechanism == "SCRAM-SHA-1" {
		sum := md5.Sum([]byte(user + ":mongo:" + password))
		hash, password = scram.SHA1, hex.EncodeToString(sum[:])
	}
	c, err := hash.NewClient(user, password, "")
	if err != nil {
		return nil, refuse(2, "BadValue", "%v", err)
	}
	kept, err := c.GetStoredCredentialsWithError(scram.KeyFactors{Salt: string(salt), Iters: 4096})
	if err != nil {
		return nil, refuse(2, "BadValue", "%v", err)
	}
	text := base64.StdEncoding.EncodeToString
	return bson.D{{Key: "iterationCount", Value: int32(kept.Iters)}, {Key: "salt", Value: text(salt)},
		{Key: "storedKey", Value: text(kept.StoredKey)}, {Key: "serverKey", Value: text(kept.ServerKey)}}, nil
}

// dropUser answers dropUser.
func dropUser(s *session, db string, req bson.Raw) (bson.D, error) {
	name, _ := first(req).StringValueOK()
	d := s.m.rs.userDocument(name)
	if db != "admin" || d == nil {
		return nil, refuse(11, "UserNotFound", "User '%s@%s' not found", name, db)
	}
	return bson.D{}, s.removeOne(s.ensure("admin", "system.users"), newDocument(d))
}

// usersInfo answers usersInfo: of all users, or of the one that is named.
func usersInfo(s *session, db string, req bson.Raw) (bson.D, error) {
	users := bson.A{}
	name, _ := first(req).StringValueOK()
	if c := s.m.rs.members[max(s.m.rs.primary, 0)].current.colls[usersOf]; c != nil {
		c.docs.Scan(func(d document) bool {
			if user, _ := d.raw.Lookup("user").StringValueOK(); name == "" || user == name && db == "admin" {
				users = append(users, bson.D{{Key: "_id", Value: d.id}, {Key: "user", Value: user},
					{Key: "db", Value: "admin"}, {Key: "roles", Value: d.raw.Lookup("roles")}})
			}
			return true
		})
	}
	return bson.D{{Key: "users", Value: users}}, nil
}

// routeUsers has the config servers answer, which hold a sharded cluster's users.
func routeUsers(x *routed, db string, req bson.Raw) (bson.D, error) {
	return x.onOne(db, "config", req)
}
