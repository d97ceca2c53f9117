package docsim

import (
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/bson"
)

// rolesOf is the collection that holds roles ("system.roles Collection").
const rolesOf = "admin.system.roles"

// need is an action on a collection, on a database where coll is empty, or on the cluster where both are ("Privilege
// Actions").
type need struct{ action, db, coll string }

// anyAction are commands for which nothing is needed ("Database Commands").
var anyAction = []string{"hello", "ismaster", "ping", "buildinfo", "connectionstatus", "endsessions", "refreshsessions",
	"killsessions", "logout", "listdatabases", "whatsmyuri", "committransaction", "aborttransaction", "getmore",
	"killcursors"}

// clusterActions are those of commands about servers or the cluster; collectionActions of those about a collection that
// is the command's value.
var (
	clusterActions = map[string]string{"getparameter": "getParameter", "getlog": "getLog",
		"getcmdlineopts": "getCmdLineOpts",
		"hostinfo":       "hostInfo", "serverstatus": "serverStatus", "replsetgetstatus": "replSetGetStatus",
		"replsetgetconfig": "replSetGetConfig", "replsetstepdown": "replSetStateChange",
		"appendoplognote": "appendOplogNote",
		"fsync":           "fsync", "fsyncunlock": "unlock", "currentop": "inprog", "listshards": "listShards",
		"getshardmap": "getShardMap", "flushrouterconfig": "flushRouterConfig", "balancerstop": "balancer",
		"balancerstart": "balancer", "balancerstatus": "balancer"}
	collectionActions = map[string]string{"find": "find", "count": "find", "distinct": "find",
		"listindexes": "listIndexes",
		"collstats":   "collStats", "insert": "insert", "create": "createCollection", "drop": "dropCollection",
		"createindexes": "createIndex", "dropindexes": "dropIndex", "deleteindexes": "dropIndex", "collmod": "collMod",
		"delete": "remove"}
	databaseActions = map[string]string{"listcollections": "listCollections", "dbstats": "dbStats",
		"dropdatabase": "dropDatabase", "createuser": "createUser", "dropuser": "dropUser", "usersinfo": "viewUser",
		"createrole": "createRole"}
	// shardingActions are of commands whose value is a whole name.
	shardingActions = map[string]string{"shardcollection": "enableSharding", "split": "splitChunk",
		"movechunk": "moveChunk"}
)

// needs returns what a command about a database needs; ok is false for one of which that is not known.
func needs(db, command string, req bson.Raw) (out []need, ok bool) {
	value, _ := first(req).StringValueOK()
	coll := func(action string) { out = append(out, need{action, db, value}) }
	if slices.Contains(anyAction, command) {
		return nil, true
	}
	if a := clusterActions[command]; a != "" {
		return []need{{action: a}}, true
	}
	if a := databaseActions[command]; a != "" {
		return []need{{a, db, ""}}, true
	}
	if a := shardingActions[command]; a != "" {
		of, name, _ := strings.Cut(value, ".")
		return []need{{a, of, name}}, true
	}
	if truthy(req.Lookup("bypassDocumentValidation")) {
		coll("bypassDocumentValidation")
	}
	switch command {
	case "aggregate":
		coll(readAction(req))
		if writesOut(req) {
			coll("insert")
		}
	case "update":
		coll("update")
		for _, u := range listOf(req, "updates") {
			if d, ok := u.DocumentOK(); ok && truthy(d.Lookup("upsert")) {
				coll("insert")
			}
		}
	case "findandmodify":
		coll("find")
		switch {
		case truthy(req.Lookup("remove")):
			coll("remove")
		case truthy(req.Lookup("upsert")):
			coll("insert")
			fallthrough
		default:
			coll("update")
		}
	case "renamecollection":
		out = renameNeeds(value, req)
	case "enablesharding":
		out = append(out, need{"enableSharding", value, ""})
	case "addshardtozone":
		out = append(out, need{"update", "config", "shards"})
	case "updatezonekeyrange":
		out = append(out, need{"update", "config", "tags"})
	default:
		a := collectionActions[command]
		if a == "" {
			return nil, false
		}
		coll(a)
	}
	return out, true
}

// readAction returns what reading by a pipeline needs ("aggregate").
func readAction(req bson.Raw) string {
	stages := listOf(req, "pipeline")
	if len(stages) > 0 {
		if d, ok := stages[0].DocumentOK(); ok && d.Lookup("$collStats").Type != 0 {
			return "collStats"
		}
	}
	return "find"
}

// renameNeeds returns what a rename needs ("renameCollection").
func renameNeeds(from string, req bson.Raw) (out []need) {
	to, _ := req.Lookup("to").StringValueOK()
	db, _, _ := strings.Cut(from, ".")
	target, name, _ := strings.Cut(to, ".")
	if truthy(req.Lookup("dropTarget")) {
		out = append(out, need{"dropCollection", target, name})
	}
	_, coll, _ := strings.Cut(from, ".")
	if db == target && !strings.HasPrefix(coll, "system.") && !strings.HasPrefix(name, "system.") {
		return append(out, need{"renameCollectionSameDB", db, ""})
	}
	return append(out, need{"find", db, coll}, need{"dropCollection", db, coll}, need{"insert", target, name},
		need{"createIndex", target, name})
}

// readActions and writeActions are of the roles read and readWrite ("Built-In Roles").
var (
	readActions  = []string{"find", "collStats", "dbStats", "listCollections", "listIndexes"}
	writeActions = []string{"insert", "update", "remove", "createCollection", "dropCollection", "createIndex",
		"dropIndex", "collMod", "renameCollectionSameDB", "bypassDocumentValidation"}
	// managerActions are of the role clusterManager, as far as the stand-in has such commands.
	managerActions = []string{"balancer", "listShards", "appendOplogNote", "replSetGetStatus", "replSetGetConfig",
		"flushRouterConfig", "enableSharding", "moveChunk", "splitChunk"}
)

// permits reports whether a resource of a role ("Resource Document") has in it what an action is needed on.
func permits(resource bson.Raw, n need) bool {
	if truthy(resource.Lookup("cluster")) {
		return n.db == "" && n.coll == ""
	}
	of, _ := resource.Lookup("db").StringValueOK()
	if n.db == "" || of != "" && of != n.db {
		return false
	}
	if v, ok := resource.Lookup("system_buckets").StringValueOK(); ok {
		name, is := strings.CutPrefix(n.coll, bucketsOf)
		return is && (v == "" || v == name)
	}
	coll, _ := resource.Lookup("collection").StringValueOK()
	switch {
	case coll != "":
		return coll == n.coll
	case strings.HasPrefix(n.coll, "system."):
		return false
	case of == "": // all of all databases, but for those of servers
		return n.db != "local" && n.db != "config"
	}
	return true
}

// allowedBy reports whether a role of a user has what is needed; the lock is held.
func (rs *ReplicaSet) allowedBy(role bson.Raw, n need) bool {
	name, _ := role.Lookup("role").StringValueOK()
	of, _ := role.Lookup("db").StringValueOK()
	normal := n.db == of && n.db != "" && (!strings.HasPrefix(n.coll, "system.") || n.coll == "system.js" ||
		strings.HasPrefix(n.coll, bucketsOf))
	switch name {
	case "read":
		return normal && slices.Contains(readActions, n.action)
	case "readWrite":
		return normal && (slices.Contains(readActions, n.action) || slices.Contains(writeActions, n.action))
	case "clusterManager":
		return slices.Contains(managerActions, n.action) || n.db == "config" && n.action == "update"
	case "directShardOperations":
		return n.action == directly
	}
	privileges, _ := rs.userOrRole(rolesOf, "admin."+name).Lookup("privileges").ArrayOK()
	list, _ := privileges.Values()
	for _, v := range list {
		p := v.Document()
		actions := listOf(p, "actions")
		if slices.ContainsFunc(actions, func(a bson.RawValue) bool {
			s, _ := a.StringValueOK()
			return s == n.action
		}) && permits(p.Lookup("resource").Document(), n) {
			return true
		}
	}
	return false
}

// directly is what is needed from 8.0 on to use what applications keep on a shard without a router
// ("directShardOperations").
const directly = "issueDirectShardOperations"

// createRole answers createRole, of roles of admin without roles of their own.
func createRole(s *session, db string, req bson.Raw) (bson.D, error) {
	rs := s.m.rs
	name, _ := first(req).StringValueOK()
	if db != "admin" || name == "" || len(listOf(req, "roles")) > 0 {
		return nil, refuse(2, "BadValue", "this stand-in makes roles of admin, of privileges alone")
	}
	if rs.userOrRole(rolesOf, "admin."+name) != nil {
		return nil, refuse(51002, "Location51002", "Role \"%s@admin\" already exists", name)
	}
	privileges := bson.A{}
	for _, v := range listOf(req, "privileges") {
		d, ok := v.DocumentOK()
		if _, res := d.Lookup("resource").DocumentOK(); !ok || !res || len(listOf(d, "actions")) == 0 {
			return nil, refuse(9, "FailedToParse", "a privilege is {resource, actions}")
		}
		privileges = append(privileges, d)
	}
	return bson.D{}, s.insertOne(s.ensure("admin", "system.roles"), toRaw(bson.D{{Key: "_id", Value: "admin." + name},
		{Key: "role", Value: name}, {Key: "db", Value: "admin"}, {Key: "privileges", Value: privileges},
		{Key: "roles", Value: bson.A{}}}))
}
