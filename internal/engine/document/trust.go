package document

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"slices"
	"strings"

	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"dexamen/internal/engine"
)

// Certificates implements [engine.CertificateLister]. It says hello to find the members and
// does nothing else on connections it has not verified.
func (Driver) Certificates(ctx context.Context, t engine.Target) ([]engine.Certificate, error) {
	base := options.Client().ApplyURI(t.Address)
	if err := base.Validate(); err != nil {
		return nil, fmt.Errorf("cluster %s: address %q: %w", t.Name, engine.Redact(t.Address), err)
	}
	base = resolved(base)
	base.Auth = nil
	cfg := &tls.Config{MinVersion: tls.VersionTLS12, InsecureSkipVerify: true}
	if t.TLS.ClientCertificate != "" {
		own, err := (engine.TLS{ClientCertificate: t.TLS.ClientCertificate}).Config()
		if err != nil {
			return nil, fmt.Errorf("cluster %s: TLS: %w", t.Name, err)
		}
		cfg.Certificates = own.Certificates
	}
	base.SetTLSConfig(cfg)
	s := newSet(t, base, alone, "", base.Hosts)
	defer func() { _ = s.close() }()
	var errs []error
	hosts := slices.Clone(base.Hosts)
	for _, seed := range base.Hosts {
		hello, err := s.hello(ctx, seed)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		for _, h := range hostsOf(hello, seed) {
			if !slices.Contains(hosts, h) {
				hosts = append(hosts, h)
			}
		}
	}
	var out []engine.Certificate
	for _, h := range hosts {
		c, err := engine.CertificateOf(ctx, h, cfg, probeTime)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("cluster %s: %w", t.Name, errors.Join(errs...))
	}
	return out, nil
}

// grantHelp are the shell's words for what can be said twice: a role or a user that is there is brought
// up to date. They stand within braces: a session that runs them twice declares them twice.
const grantHelp = `{
const admin = db.getSiblingDB("admin");
const role = (name, privileges) => admin.getRole(name)
  ? admin.updateRole(name, { roles: [], privileges })
  : admin.createRole({ role: name, roles: [], privileges });
const user = (name, roles) => admin.getUser(name)
  ? admin.grantRolesToUser(name, roles)
  : admin.createUser({ user: name, pwd: passwordPrompt(), roles });

`

// Grants implements [engine.Granter], in the language of the servers' shell. What concerns users and
// roles is asked for only where they are protected. Who restores has a login of its own.
func (Driver) Grants(t engine.Target, restore bool) string {
	user := t.User
	if user == "" {
		user = "dexamen"
	}
	q := func(list ...string) string { return `["` + strings.Join(list, `", "`) + `"]` }
	var b strings.Builder
	b.WriteString(grantHelp)
	role := func(name string, privileges [][2]string) {
		fmt.Fprintf(&b, "role(%q, [\n", name)
		for _, p := range privileges {
			fmt.Fprintf(&b, "  { resource: %s,\n    actions: %s },\n", p[0], p[1])
		}
		b.WriteString("]);\n")
	}
	read := q("find", "listCollections", "listIndexes", "collStats")
	protect := [][2]string{
		{`{ cluster: true }`, q("listDatabases", "replSetGetStatus", "replSetGetConfig", "listShards", "getShardMap",
			"appendOplogNote")},
		{`{ db: "", collection: "" }`, read},
		{`{ db: "", system_buckets: "" }`, read},
		{`{ db: "", collection: "system.js" }`, q("find", "listIndexes", "collStats")},
		{`{ db: "", collection: "system.views" }`, q("find")},
		{`{ db: "local", collection: "" }`, q("listCollections")},
		{`{ db: "local", collection: "oplog.rs" }`, q("find", "collStats")},
		{`{ db: "config", collection: "" }`, read},
		{`{ db: "admin", collection: "" }`, q("listCollections")},
		{`{ db: "admin", collection: "system.version" }`, q("find")},
	}
	write := q("insert", "update", "remove", "createCollection", "createIndex", "dropIndex", "collMod",
		"dropCollection", "renameCollectionSameDB", "bypassDocumentValidation", "enableSharding", "splitChunk",
		"moveChunk")
	putBack := [][2]string{{`{ db: "", collection: "" }`, write}, {`{ db: "", system_buckets: "" }`, write},
		{`{ db: "", collection: "system.js" }`, q("insert", "update", "remove", "createCollection", "createIndex",
			"dropCollection", "bypassDocumentValidation")}}
	if t.Settings {
		for _, coll := range []string{"system.users", "system.roles"} {
			resource := `{ db: "admin", collection: "` + coll + `" }`
			protect = append(protect, [2]string{resource, q("find", "listIndexes", "collStats")})
			putBack = append(putBack, [2]string{resource, q("find", "insert", "update")})
		}
	}
	role("dexamenProtect", protect)
	own := []string{"dexamenProtect"}
	if pauseBalancer(t) {
		own = append(own, "clusterManager") // which the manual asks for balancerStop and balancerStart
	}
	if !restore {
		fmt.Fprintf(&b, "user(%q, %s);\n}\n%s", user, q(own...), onShards(user))
		return b.String()
	}
	role("dexamenRestore", putBack)
	fmt.Fprintf(&b,
		"// A login of its own, for a cluster of its own in the configuration: who protects needs to write nothing.\n"+
			"user(%q, %s);\n}\n%s", user+"Restore", q(append(own, "dexamenRestore")...), onShards(user))
	return b.String()
}

// onShards says what else a sharded cluster needs: its shards are read directly, and its users do not exist there
// ("Authentication on Sharded Clusters: Shard-Local Users"; "directShardOperations", from 8.0).
func onShards(user string) string {
	return fmt.Sprintf(`// Of a sharded cluster: run this through a router, and again on the primary of each shard,
// which does not know the cluster's users. From 8.0 on, on the shards only, also:
//   db.getSiblingDB("admin").grantRolesToUser(%q, ["directShardOperations"]);
`, user)
}
