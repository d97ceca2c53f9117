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

// Grants implements [engine.Granter], in the language of the servers' shell.
func (Driver) Grants(t engine.Target, restore bool) string {
	user := t.User
	if user == "" {
		user = "dexamen"
	}
	q := func(list ...string) string { return `["` + strings.Join(list, `", "`) + `"]` }
	var b strings.Builder
	role := func(name string, privileges [][2]string) {
		fmt.Fprintf(&b, "db.getSiblingDB(\"admin\").createRole({\n  role: %q,\n  roles: [],\n  privileges: [\n", name)
		for _, p := range privileges {
			fmt.Fprintf(&b, "    { resource: %s,\n      actions: %s },\n", p[0], p[1])
		}
		b.WriteString("  ]\n})\n\n")
	}
	read := q("find", "listCollections", "listIndexes", "collStats")
	role("dexamenProtect", [][2]string{
		{`{ cluster: true }`, q("listDatabases", "replSetGetStatus", "replSetGetConfig", "listShards", "getShardMap",
			"appendOplogNote")},
		{`{ db: "", collection: "" }`, read},
		{`{ db: "", system_buckets: "" }`, read},
		{`{ db: "", collection: "system.js" }`, q("find")},
		{`{ db: "", collection: "system.views" }`, q("find")},
		{`{ db: "local", collection: "" }`, q("listCollections")},
		{`{ db: "local", collection: "oplog.rs" }`, q("find", "collStats")},
		{`{ db: "config", collection: "" }`, read},
		{`{ db: "admin", collection: "" }`, q("listCollections")},
		{`{ db: "admin", collection: "system.version" }`, q("find")},
		{`{ db: "admin", collection: "system.users" }`, q("find", "listIndexes", "collStats")},
		{`{ db: "admin", collection: "system.roles" }`, q("find", "listIndexes", "collStats")},
	})
	roles := []string{"dexamenProtect"}
	if restore {
		write := q("insert", "createCollection", "createIndex", "dropCollection", "renameCollectionSameDB",
			"bypassDocumentValidation", "enableSharding", "splitChunk", "moveChunk")
		role("dexamenRestore", [][2]string{
			{`{ db: "", collection: "" }`, write},
			{`{ db: "", system_buckets: "" }`, write},
			{`{ db: "admin", collection: "system.users" }`, q("find", "insert", "update")},
			{`{ db: "admin", collection: "system.roles" }`, q("find", "insert", "update")},
		})
		roles = append(roles, "dexamenRestore")
	}
	fmt.Fprintf(&b,
		"db.getSiblingDB(\"admin\").createUser({\n  user: %q,\n  pwd: passwordPrompt(),\n  roles: %s\n})\n", user,
		q(roles...))
	return b.String()
}
