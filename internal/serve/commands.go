package serve

import (
	"os"
	"slices"
	"strings"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"

	"dexamen/internal/docquery"
)

var commands map[string]command

func init() {
	nothing := func(*connection, request) (bson.D, error) { return bson.D{}, nil }
	commands = map[string]command{
		"hello": {true, "*", hello}, "ismaster": {true, "*", hello}, "ping": {true, "*", nothing},
		"buildinfo": {true, "*", buildInfo}, "saslstart": {true, "*", loginStep},
		"saslcontinue": {true, "*", loginStep},
		"logout": {true, "*", func(c *connection, _ request) (bson.D, error) {
			c.user = ""
			return bson.D{}, nil
		}},
		"endsessions": {true, "*", nothing}, "startsession": {false, "", startSession},
		"refreshsessions": {false, "*", nothing},
		"killsessions":    {false, "*", nothing}, "whatsmyuri": {true, "*", whatsMyURI},
		"connectionstatus": {true, "showPrivileges", connectionStatus},
		"listdatabases":    {false, "nameOnly filter authorizedDatabases", listDatabases},
		"listcollections":  {false, "filter nameOnly authorizedCollections cursor", listCollections},
		"listindexes":      {false, "cursor", listIndexes},
		"find":             {false, "filter projection sort skip limit batchSize singleBatch hint", find},
		"getmore":          {false, "collection batchSize term lastKnownCommittedOpTime", getMore},
		"killcursors":      {false, "cursors", killCursors},
		"count":            {false, "query limit skip hint fields", count},
		"distinct":         {false, "key query hint", distinct},
		"aggregate":        {false, "pipeline cursor hint", aggregate}, "explain": {false, "verbosity", explain},
		"collstats": {false, "scale", collStats}, "dbstats": {false, "scale freeStorage", dbStats},
		"serverstatus": {false, "*", serverStatus}, "getlog": {false, "", getLog}, "hostinfo": {false, "", hostInfo},
		"getcmdlineopts": {false, "", cmdLine}, "getparameter": {false, "*", getParameter},
		"currentop": {false, "*", currentOp},
		"top":       {false, "", nothing},
	}
}

func buildInfo(c *connection, _ request) (bson.D, error) {
	v := c.c.Moment.Point.Version
	if v == "" {
		v = "7.0.0"
	}
	arr := bson.A{}
	for _, p := range strings.SplitN(v, ".", 3) {
		n := int32(0)
		for _, d := range p {
			if d < '0' || d > '9' {
				break
			}
			n = n*10 + d - '0'
		}
		arr = append(arr, n)
	}
	for len(arr) < 4 {
		arr = append(arr, int32(0))
	}
	return bson.D{{Key: "version", Value: v}, {Key: "versionArray", Value: arr},
		{Key: "gitVersion", Value: c.o.Version},
		{Key: "modules", Value: bson.A{}}, {Key: "bits", Value: int32(64)}, {Key: "debug", Value: false},
		{Key: "maxBsonObjectSize", Value: int32(16 << 20)}}, nil
}

func startSession(*connection, request) (bson.D, error) {
	id := bson.NewObjectID()
	return bson.D{
		{Key: "id", Value: bson.D{{Key: "id", Value: bson.Binary{Subtype: 4, Data: append(id[:], 0, 0, 0, 0)}}}},
		{Key: "timeoutMinutes", Value: int32(30)}}, nil
}

func whatsMyURI(c *connection, _ request) (bson.D, error) {
	return bson.D{{Key: "you", Value: c.conn.RemoteAddr().String()}}, nil
}

func connectionStatus(c *connection, _ request) (bson.D, error) {
	users, roles := bson.A{}, bson.A{}
	if c.user != "" {
		users = bson.A{bson.D{{Key: "user", Value: c.user}, {Key: "db", Value: "admin"}}}
		roles = bson.A{bson.D{{Key: "role", Value: "readAnyDatabase"}, {Key: "db", Value: "admin"}}}
	}
	return bson.D{{Key: "authInfo", Value: bson.D{{Key: "authenticatedUsers", Value: users},
		{Key: "authenticatedUserRoles", Value: roles}}}}, nil
}

// databases returns the databases that are served, with their collections.
func (s *documentServer) databases() (names []string, of map[string][]string) {
	of = map[string][]string{}
	for _, n := range s.c.Names() {
		db, coll, _ := strings.Cut(n, ".")
		if of[db] == nil {
			names = append(names, db)
		}
		of[db] = append(of[db], coll)
	}
	slices.Sort(names)
	return names, of
}

func listDatabases(c *connection, r request) (bson.D, error) {
	filter, err := documentOf(r, "filter")
	if err != nil {
		return nil, err
	}
	f, err := docquery.CompileFilter(filter)
	if err != nil {
		return nil, err
	}
	only, _ := r.body.Lookup("nameOnly").BooleanOK()
	names, _ := c.databases()
	out, total := bson.A{}, int64(0)
	for _, n := range names {
		d := bson.D{{Key: "name", Value: n}}
		if !only {
			size, err := c.sizeOf(r, n)
			if err != nil {
				return nil, err
			}
			total += size
			d = append(d, bson.E{Key: "sizeOnDisk", Value: size}, bson.E{Key: "empty", Value: size == 0})
		}
		raw, err := bson.Marshal(d)
		if err != nil {
			return nil, err
		}
		if ok, err := f.Fits(raw); err != nil {
			return nil, err
		} else if ok {
			out = append(out, bson.Raw(raw))
		}
	}
	return bson.D{{Key: "databases", Value: out}, {Key: "totalSize", Value: total},
		{Key: "totalSizeMb", Value: total >> 20}}, nil
}

// sizeOf returns the size of a database as its point has it: what is asked first must not have
// all of it built.
func (c *connection) sizeOf(_ request, db string) (size int64, err error) {
	for _, ns := range c.c.Moment.Point.Parts() {
		if d, _, _ := strings.Cut(ns.Name, "."); d == db && slices.Contains(c.c.Names(), ns.Name) {
			size += ns.Root.Bytes
		}
	}
	return size, nil
}

func listCollections(c *connection, r request) (bson.D, error) {
	filter, err := documentOf(r, "filter")
	if err != nil {
		return nil, err
	}
	f, err := docquery.CompileFilter(filter)
	if err != nil {
		return nil, err
	}
	only, _ := r.body.Lookup("nameOnly").BooleanOK()
	_, of := c.databases()
	var out []bson.Raw
	for _, coll := range of[r.db] {
		v, ok, err := c.describe(r, r.db+"."+coll)
		if err != nil || !ok {
			return nil, err
		}
		d := bson.D{{Key: "name", Value: coll}, {Key: "type", Value: v.kind}}
		if !only {
			d = append(d, bson.E{Key: "options", Value: v.options},
				bson.E{Key: "info", Value: bson.D{{Key: "readOnly", Value: true}}})
			for _, ix := range v.indexes {
				if n, _ := ix.Lookup("name").StringValueOK(); n == "_id_" {
					d = append(d, bson.E{Key: "idIndex", Value: ix})
				}
			}
		}
		raw, err := bson.Marshal(d)
		if err != nil {
			return nil, err
		}
		if ok, err := f.Fits(raw); err != nil {
			return nil, err
		} else if ok {
			out = append(out, raw)
		}
	}
	return c.first(r, newCursor(r.db+".$cmd.listCollections", listed(out), func() {}), 0x7fffffff, true)
}

func listed(list []bson.Raw) docquery.Documents {
	return func(fn func(bson.Raw) (bool, error)) error {
		for _, d := range list {
			if more, err := fn(d); err != nil || !more {
				return err
			}
		}
		return nil
	}
}

func listIndexes(c *connection, r request) (bson.D, error) {
	ns, err := r.collection()
	if err != nil {
		return nil, err
	}
	v, ok, err := c.describe(r, ns)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, docquery.Refuse(26, "NamespaceNotFound", "ns does not exist: %s", ns)
	}
	if v.kind == "view" {
		return nil, docquery.Refuse(166, "CommandNotSupportedOnView", "Namespace %s is a view, not a collection", ns)
	}
	return c.first(r, newCursor(ns, listed(v.indexes), func() {}), 0x7fffffff, true)
}

// explain says how a command would be carried out.
func explain(c *connection, r request) (bson.D, error) {
	inner, ok := r.body.Index(0).Value().DocumentOK()
	if !ok {
		return nil, docquery.Refuse(14, "TypeMismatch", "explain needs a command")
	}
	in := request{ctx: r.ctx, name: inner.Index(0).Key(), db: r.db, body: inner}
	cmd, known := commands[strings.ToLower(in.name)]
	if !known {
		return nil, docquery.Refuse(59, "CommandNotFound", "Explain failed due to unknown command: %s", in.name)
	}
	if err := onlyKnown(in, cmd.fields); err != nil {
		return nil, err
	}
	ns, err := in.collection()
	if err != nil {
		return nil, err
	}
	by := ""
	switch strings.ToLower(in.name) {
	case "find":
		var q query
		q, err = c.planFind(r.ctx, in)
		by = q.by
	case "count", "distinct":
		var q query
		q, err = c.compile(r.ctx, in, "query")
		by = q.by
	case "aggregate":
		arr, _ := inner.Lookup("pipeline").ArrayOK()
		var stages []bson.RawValue
		if stages, err = arr.Values(); err == nil {
			_, by, err = c.planAggregate(r.ctx, r.db, ns, stages)
		}
	default:
		return nil, docquery.Refuse(59, "CommandNotFound", "%s is not explained", in.name)
	}
	stage := "COLLSCAN"
	if strings.HasPrefix(by, "_id") {
		stage = "IDHACK"
	}
	return bson.D{{Key: "explainVersion", Value: "1"},
		{Key: "queryPlanner", Value: bson.D{{Key: "namespace", Value: ns},
			{Key: "winningPlan", Value: bson.D{{Key: "stage", Value: stage}, {Key: "note", Value: by}}},
			{Key: "rejectedPlans", Value: bson.A{}}}}, {Key: "command", Value: inner}}, err
}

func scaleOf(r request) (int64, error) {
	n, err := numberOf(r, "scale", 1)
	return max(1, n), err
}

func collStats(c *connection, r request) (bson.D, error) {
	ns, err := r.collection()
	if err != nil {
		return nil, err
	}
	scale, err := scaleOf(r)
	if err != nil {
		return nil, err
	}
	v, ok, err := c.open(r.ctx, ns)
	if err != nil {
		return nil, err
	}
	if !ok {
		return bson.D{{Key: "ns", Value: ns}, {Key: "size", Value: int64(0)}, {Key: "count", Value: int64(0)},
			{Key: "nindexes", Value: int32(0)}}, nil
	}
	avg := int64(0)
	if v.records > 0 {
		avg = v.bytes / v.records
	}
	return bson.D{{Key: "ns", Value: ns}, {Key: "size", Value: v.bytes / scale}, {Key: "count", Value: v.records},
		{Key: "avgObjSize", Value: avg}, {Key: "storageSize", Value: v.bytes / scale},
		{Key: "nindexes", Value: int32(len(v.indexes))},
		{Key: "totalIndexSize", Value: int64(0)}, {Key: "indexSizes", Value: bson.D{}}, {Key: "capped", Value: false},
		{Key: "scaleFactor", Value: scale}, {Key: "root", Value: v.root}}, nil
}

func dbStats(c *connection, r request) (bson.D, error) {
	scale, err := scaleOf(r)
	if err != nil {
		return nil, err
	}
	size, records, views, colls, indexes := int64(0), int64(0), 0, 0, 0
	_, of := c.databases()
	for _, coll := range of[r.db] {
		v, ok, err := c.open(r.ctx, r.db+"."+coll)
		if err != nil || !ok {
			return nil, err
		}
		if v.kind == "view" {
			views++
			continue
		}
		colls++
		indexes += len(v.indexes)
		size, records = size+v.bytes, records+v.records
	}
	return bson.D{{Key: "db", Value: r.db}, {Key: "collections", Value: int64(colls)},
		{Key: "views", Value: int64(views)},
		{Key: "objects", Value: records}, {Key: "dataSize", Value: float64(size / scale)},
		{Key: "storageSize", Value: float64(size / scale)}, {Key: "indexes", Value: int64(indexes)},
		{Key: "indexSize", Value: 0.0}, {Key: "totalSize", Value: float64(size / scale)},
		{Key: "scaleFactor", Value: scale}}, nil
}

func serverStatus(c *connection, r request) (bson.D, error) {
	info, err := buildInfo(c, r)
	if err != nil {
		return nil, err
	}
	host, _ := os.Hostname()
	up := time.Since(c.started)
	c.documentServer.mu.Lock()
	cursors, asked := len(c.cursors), c.asked
	c.documentServer.mu.Unlock()
	return bson.D{{Key: "host", Value: host}, info[0], {Key: "process", Value: "dexamen"},
		{Key: "pid", Value: int64(os.Getpid())},
		{Key: "uptime", Value: up.Seconds()}, {Key: "uptimeMillis", Value: up.Milliseconds()},
		{Key: "localTime", Value: time.Now()},
		{Key: "metrics", Value: bson.D{{Key: "cursor", Value: bson.D{{Key: "open", Value: bson.D{{Key: "total",
			Value: int64(cursors)}}}}}}}, {Key: "opcounters", Value: bson.D{{Key: "command", Value: asked}}},
		{Key: "moment", Value: c.c.Moment.String()}}, nil
}

func getLog(c *connection, r request) (bson.D, error) {
	lines := bson.A{}
	if what, _ := r.body.Index(0).Value().StringValueOK(); what == "startupWarnings" {
		line, err := bson.MarshalExtJSON(bson.D{
			{Key: "t", Value: c.started}, {Key: "s", Value: "W"}, {Key: "c", Value: "CONTROL"},
			{Key: "id", Value: int32(1)}, {Key: "ctx", Value: "initandlisten"},
			{Key: "msg", Value: "This is " + c.c.Moment.String() +
				", served from a backup. It is read only, and nothing of it is restored."}}, false, false)
		if err != nil {
			return nil, err
		}
		lines = bson.A{string(line)}
	}
	return bson.D{{Key: "totalLinesWritten", Value: int32(len(lines))}, {Key: "log", Value: lines}}, nil
}

func hostInfo(*connection, request) (bson.D, error) {
	host, _ := os.Hostname()
	return bson.D{
		{Key: "system", Value: bson.D{{Key: "currentTime", Value: time.Now()}, {Key: "hostname", Value: host}}},
		{Key: "os", Value: bson.D{}}, {Key: "extra", Value: bson.D{}}}, nil
}

func cmdLine(*connection, request) (bson.D, error) {
	return bson.D{{Key: "argv", Value: bson.A{"dexamen", "serve"}}, {Key: "parsed", Value: bson.D{}}}, nil
}

func getParameter(_ *connection, r request) (bson.D, error) {
	if r.body.Lookup("featureCompatibilityVersion").Type != 0 {
		return bson.D{{Key: "featureCompatibilityVersion", Value: bson.D{{Key: "version", Value: "7.0"}}}}, nil
	}
	return nil, docquery.Refuse(72, "InvalidOptions", "no option found to get")
}

func currentOp(*connection, request) (bson.D, error) {
	return bson.D{{Key: "inprog", Value: bson.A{}}}, nil
}
