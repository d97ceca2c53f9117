package document

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"io"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dexamen/internal/core/remedy"
	"dexamen/internal/sim/docsim"

	"github.com/stretchr/testify/require"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"
	"go.mongodb.org/mongo-driver/v2/x/bsonx/bsoncore"

	"dexamen/internal/core/fold"
	"dexamen/internal/core/record"
	"dexamen/internal/engine"
)

func doc(t *testing.T, js string) []byte {
	t.Helper()
	var d bson.D
	require.NoError(t, bson.UnmarshalExtJSON([]byte(js), false, &d), js)
	b, err := bson.Marshal(d)
	require.NoError(t, err)
	return b
}

// TestUpdateEntries: both documented forms, as servers write them.
func TestUpdateEntries(t *testing.T) {
	for _, c := range []struct{ name, old, entry, want string }{
		{"set and unset", `{"_id":1,"a":1,"b":2}`, `{"$v":1,"$set":{"a":5,"c":7},"$unset":{"b":true}}`,
			`{"_id":1,"a":5,"c":7}`},
		{"operators without a version", `{"_id":1,"a":1}`, `{"$set":{"a":2}}`, `{"_id":1,"a":2}`},
		{"dotted paths", `{"_id":1,"a":{"b":1}}`, `{"$set":{"a.b":2,"a.c.d":3,"x.y":4}}`,
			`{"_id":1,"a":{"b":2,"c":{"d":3}},"x":{"y":4}}`},
		{"elements of arrays", `{"_id":1,"a":[1,{"k":1}]}`, `{"$set":{"a.0":9,"a.1.k":2,"a.3":7}}`,
			`{"_id":1,"a":[9,{"k":2},null,7]}`},
		{"unset in an array", `{"_id":1,"a":[1,{"k":1}]}`, `{"$unset":{"a.0":true,"a.1.k":true}}`,
			`{"_id":1,"a":[null,{}]}`},
		{"diff of fields", `{"_id":1,"a":1,"b":2,"c":3}`, `{"$v":2,"diff":{"d":{"b":false},"u":{"a":5},"i":{"z":1}}}`,
			`{"_id":1,"a":5,"c":3,"z":1}`},
		{"diff of a nested document", `{"_id":1,"q":{"y":1,"m":true}}`,
			`{"$v":2,"diff":{"sq":{"u":{"y":2},"d":{"m":false},"i":{"o":null}}}}`, `{"_id":1,"q":{"y":2,"o":null}}`},
		{"diff of an array", `{"_id":1,"a":[1,{"k":1},3,4]}`,
			`{"$v":2,"diff":{"sa":{"a":true,"l":3,"u0":9,"s1":{"u":{"k":2}}}}}`, `{"_id":1,"a":[9,{"k":2},3]}`},
		{"diff makes an array longer", `{"_id":1,"a":[1]}`, `{"$v":2,"diff":{"sa":{"a":true,"u2":7}}}`,
			`{"_id":1,"a":[1,null,7]}`},
		{"bytes from an offset on", `{"_id":1,"data":{"c":{"$binary":{"base64":"AQIDAA==","subType":"07"}}}}`,
			`{"$v":2,"diff":{"sdata":{"b":{"c":{"o":3,"d":{"$binary":{"base64":"BAUA","subType":"07"}}}}}}}`,
			`{"_id":1,"data":{"c":{"$binary":{"base64":"AQIDBAUA","subType":"07"}}}}`},
		{"an added field that is there goes to the end", `{"_id":1,"z":1,"b":2}`, `{"$v":2,"diff":{"i":{"z":3}}}`,
			`{"_id":1,"b":2,"z":3}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			old := doc(t, c.old)
			got, err := applyUpdate(old, doc(t, c.entry), false)
			require.NoError(t, err)
			require.Equal(t, bson.Raw(doc(t, c.want)).String(), bson.Raw(got).String())
			again, err := applyUpdate(got, doc(t, c.entry), true)
			require.NoError(t, err)
			require.Equal(t, bson.Raw(got).String(), bson.Raw(again).String(),
				"applied to a later state it changes nothing")
		})
	}
	for name, entry := range map[string]string{
		"through a number":           `{"$set":{"n.x":1}}`,
		"into what is not there":     `{"$v":2,"diff":{"sq":{"u":{"y":2}}}}`,
		"into another type":          `{"$v":2,"diff":{"sn":{"u":{"y":2}}}}`,
		"an element past its end":    `{"$v":2,"diff":{"sa":{"a":true,"s5":{"u":{"k":1}}}}}`,
		"an index that is no such":   `{"$set":{"a.x":1}}`,
		"bytes of a number":          `{"$v":2,"diff":{"b":{"n":{"o":0,"d":{"$binary":{"base64":"AA==","subType":"07"}}}}}}`,
		"bytes of what is not there": `{"$v":2,"diff":{"b":{"x":{"o":0,"d":{"$binary":{"base64":"AA==","subType":"07"}}}}}}`,
	} {
		_, err := applyUpdate(doc(t, `{"_id":1,"n":1,"a":[1]}`), doc(t, entry), false)
		require.ErrorIs(t, err, fold.ErrDiverged, name)
		got, err := applyUpdate(doc(t, `{"_id":1,"n":1,"a":[1]}`), doc(t, entry), true)
		require.NoError(t, err, name)
		require.Equal(t, doc(t, `{"_id":1,"n":1,"a":[1]}`), got, name)
	}
	for _, unknown := range []string{`{"$inc":{"a":1}}`, `{"$v":2,"diff":{"x":{"a":1}}}`} {
		_, err := applyUpdate(doc(t, `{"_id":1}`), doc(t, unknown), true)
		require.ErrorContains(t, err, "unknown")
	}
	for _, odd := range []string{`{"o":0}`, `{"o":0,"d":1}`, `{"o":-1,"d":{"$binary":{"base64":"AA==","subType":"07"}}}`,
		`{"o":0,"n":1,"d":{"$binary":{"base64":"AA==","subType":"07"}}}`,
		`{"o":0,"d":{"$binary":{"base64":"AQ==","subType":"07"}}}`} {
		_, err := applyUpdate(doc(t, `{"_id":1,"c":{"$binary":{"base64":"AQIDAA==","subType":"07"}}}`),
			doc(t, `{"$v":2,"diff":{"b":{"c":`+odd+`}}}`), true)
		require.ErrorContains(t, err, "newer server", "nothing is guessed: %s", odd)
	}
}

func FuzzApplyUpdate(f *testing.F) {
	for _, s := range []string{`{"_id":1,"a":[1,{"k":1}]}`,
		`{"$v":2,"diff":{"sa":{"a":true,"l":3,"u0":9,"s1":{"u":{"k":2}}}}}`, `{"$set":{"a.0.b":1},"$unset":{"c":1}}`,
		`{"c":{"$binary":{"base64":"AQIDAA==","subType":"07"}},"$v":2,"diff":{"b":{"c":{"o":3,"d":{"$binary":{"base64":"BAUA",
			"subType":"07"}}}}}}`} {
		var d bson.D
		_ = bson.UnmarshalExtJSON([]byte(s), false, &d)
		b, _ := bson.Marshal(d)
		f.Add(b, b)
	}
	f.Fuzz(func(t *testing.T, old, update []byte) {
		got, err := applyUpdate(old, update, true)
		if err == nil && bson.Raw(old).Validate() == nil && bson.Raw(update).Validate() == nil &&
			bson.Raw(got).Validate() != nil {
			t.Fatalf("made malformed BSON of %x and %x", old, update)
		}
	})
}

// TestASeriesWithoutBuckets is no time series that this version knows: it is named where it is listed, and where it is
// made.
func TestASeriesWithoutBuckets(t *testing.T) {
	list := []bson.Raw{doc(t, `{"name":"old","type":"timeseries"}`),
		doc(t, `{"name":"system.buckets.old","type":"collection"}`),
		doc(t, `{"name":"new","type":"timeseries"}`), doc(t, `{"name":"plain","type":"collection"}`)}
	for i, want := range []bool{false, false, true, false} {
		require.Equal(t, want, withoutBuckets(list[i], list), "%s", list[i])
	}
	_, chs, err := changesOf(alone, doc(t, `{"ts":{"$timestamp":{"t":100,"i":2}},"op":"c","ns":"a.$cmd",
		"o":{"create":"new","timeseries":{"timeField":"at"}}}`))
	require.NoError(t, err)
	require.Equal(t, record.Unknown, chs[0].Op)
	require.Equal(t, "a.new", chs[0].Namespace)
	require.Contains(t, string(chs[0].Value), "a.new is made as a time series without a collection of its buckets")
	_, chs, err = changesOf(alone, doc(t, `{"ts":{"$timestamp":{"t":100,"i":2}},"op":"c","ns":"a.$cmd",
		"o":{"create":"system.buckets.old","timeseries":{"timeField":"at"}}}`))
	require.NoError(t, err)
	require.Len(t, chs, 1)
}

func TestEntriesOfOtherForms(t *testing.T) {
	entry := func(js string) bson.Raw {
		return doc(t, strings.Replace(js, "{",
			`{"ts":{"$timestamp":{"t":100,"i":2}},"wall":{"$date":"2026-11-23T10:14:04.123Z"},`, 1))
	}
	kinds := func(chs []record.Change) (out []string) {
		for _, c := range chs {
			out = append(out, c.Op.String()+" "+c.Namespace+" "+c.To)
		}
		return out
	}
	for _, c := range []struct {
		js   string
		want []string
	}{
		{`{"op":"n","ns":"","o":{"msg":"periodic noop"}}`, nil},
		{`{"op":"i","ns":"config.x","o":{"_id":1}}`, nil},
		{`{"op":"i","ns":"a.system.profile","o":{"_id":1}}`, nil},
		{`{"op":"u","ns":"a.b","o":{"_id":1,"x":2},"o2":{"_id":1}}`, []string{"put a.b "}},
		{`{"op":"u","ns":"a.b","o":{"$set":{"_id":1,"x":2}},"o2":{"_id":1}}`, []string{"put a.b "}},
		{`{"op":"c","ns":"a.$cmd","o":{"renameCollection":"a.b","to":"a.c","dropTarget":true}}`,
			[]string{"drop a.c ", "rename a.b a.c"}},
		{`{"op":"c","ns":"a.$cmd","o":{"renameCollection":"a.b","to":"a.c","dropTarget":false}}`,
			[]string{"rename a.b a.c"}},
		{`{"op":"c","ns":"a.$cmd","o":{"emptycapped":"b"}}`, []string{"empty a.b "}},
		{`{"op":"c","ns":"a.$cmd","o":{"dropDatabase":1}}`, nil},
		{`{"op":"c","ns":"a.$cmd","o":{"commitIndexBuild":"b","indexes":[{"v":2,"key":{"x":1},"name":"x_1"}]}}`,
			[]string{"alter a.b "}},
		{`{"op":"i","ns":"a.system.views","o":{"_id":"a.v","viewOn":"b","pipeline":[]}}`, []string{"create a.v "}},
		{`{"op":"d","ns":"a.system.views","o":{"_id":"a.v"}}`, []string{"drop a.v view"}},
		{`{"op":"u","ns":"a.system.views","o":{"_id":"a.v","viewOn":"b","pipeline":[]},"o2":{"_id":"a.v"}}`,
			[]string{"alter a.v view"}},
		{`{"op":"u","ns":"a.system.views","o":{"$v":2,"diff":{"u":{"viewOn":"c"}}},"o2":{"_id":"a.v"}}`,
			[]string{"alter a.v view"}},
		{`{"op":"u","ns":"a.system.views","o":{"_id":"a.s","viewOn":"system.buckets.s","pipeline":[]},` +
			`"o2":{"_id":"a.s"}}`, nil},
		{`{"op":"i","ns":"admin.system.views","o":{"_id":"admin.v","viewOn":"b","pipeline":[]}}`, nil},
		{`{"op":"c","ns":"a.$cmd","o":{"create":"system.views","idIndex":{}}}`, nil},
		{`{"op":"c","ns":"a.$cmd","o":{"drop":"system.views"}}`, []string{"drop a.system.views view"}},
		{`{"op":"c","ns":"a.$cmd","o":{"startIndexBuild":"b","indexes":[{"v":2,"key":{"x":1},"name":"x_1"}]}}`,
			[]string{"alter a.b "}},
		{
			`{"op":"c","ns":"admin.$cmd","o":{"applyOps":[{"op":"i","ns":"a.b","o":{"_id":1}},{"op":"d","ns":"a.b","o":{"_id":2}}]}}`, []string{"put a.b ", "delete a.b "}},
	} {
		m, chs, err := changesOf(alone, entry(c.js))
		require.NoError(t, err, c.js)
		require.Equal(t, c.want, kinds(chs), c.js)
		require.Equal(t, "100.2", model{}.FormatPosition(m.Position))
		require.Equal(t, 123, m.Wall.Nanosecond()/1e6)
	}
	// What is not understood concerns one collection, or one database, or nobody knows what.
	for _, c := range []struct{ js, want, key string }{
		{`{"op":"x","ns":"a.b","o":{}}`, "a.b", ""}, {`{"op":"c","ns":"a.$cmd","o":{"shuffle":"b"}}`, "a.*", "a."},
		{`{"op":"u","ns":"a.b","o":{"$set":{"x":1}}}`, "a.b", ""}, {`{"op":"d","ns":"a.b","o":{}}`, "a.b", ""},
		{`{"op":"c","ns":"admin.$cmd","o":{"applyOps":[{"op":"i","ns":"c.d","o":{"_id":1}},{"op":"d","ns":"a.b","o":{}}]}}`,
			"a.b", ""},
	} {
		_, chs, err := changesOf(alone, entry(c.js))
		require.NoError(t, err, c.js)
		last := chs[len(chs)-1]
		require.Equal(t, record.Unknown, last.Op, c.js)
		require.Equal(t, c.want, last.Namespace, c.js)
		require.Equal(t, c.key, string(last.Key), c.js)
		require.Contains(t, string(last.Value), ErrEntry.Error(), c.js)
	}
	for _, bad := range []string{`{"op":"c","ns":"a.$cmd","o":{}}`, `{"op":"c","ns":"admin.$cmd","o":{"applyOps":1}}`,
		`{"op":"x","ns":"admin.system.users","o":{}}`, `{"op":"c","ns":"admin.$cmd","o":{"shuffle":"system.users"}}`,
		`{"op":"i","ns":"a.system.views","o":{"_id":1}}`} {
		_, _, err := changesOf(alone, entry(bad))
		require.Error(t, err, bad)
		require.ErrorContains(t, err, "100.2", bad)
	}
}

// certificate makes a self-signed one for 127.0.0.1 and writes its PEM file.
func certificate(t *testing.T) (tls.Certificate, string) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "meadow"},
		NotBefore: time.Now().Add(-time.Hour),
		NotAfter:  time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, &key.PublicKey, key)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, file
}

func TestLoginAndTLS(t *testing.T) {
	cert, ca := certificate(t)
	_, otherCA := certificate(t)
	rs, err := docsim.Start(docsim.Options{
		Name: "meadow", User: "dexamen", Password: "made up", TLS: &tls.Config{Certificates: []tls.Certificate{cert}}})
	require.NoError(t, err)
	t.Cleanup(rs.Close)
	connect := func(change func(*engine.Target)) error {
		target := engine.Target{Name: "meadow", Address: "mongodb://" + rs.Addresses()[0] + "/", User: "dexamen",
			Secret: "made up", TLS: engine.TLS{On: true, CAFile: ca}}
		change(&target)
		c, err := Driver{}.Open(context.Background(), target)
		if err == nil {
			_, err = c.Topology(context.Background())
			_ = c.Close()
		}
		return err
	}
	require.NoError(t, connect(func(*engine.Target) {}))
	err = connect(func(t *engine.Target) { t.Secret = "mistyped" })
	require.ErrorIs(t, err, engine.ErrLogin)
	require.ErrorContains(t, err, "cluster meadow: "+rs.Addresses()[0])
	require.NotContains(t, err.Error(), "mistyped")
	require.ErrorContains(t, connect(func(t *engine.Target) { t.TLS.CAFile = otherCA }), "TLS")
	require.ErrorContains(t, connect(func(t *engine.Target) { t.TLS.CAFile = "/nowhere" }), "CA file")
	require.ErrorIs(t, connect(func(t *engine.Target) { t.Address = "mongodb://127.0.0.1:1/" }), engine.ErrUnreachable)
	require.Error(t, connect(func(t *engine.Target) { t.TLS = engine.TLS{} }))
	require.ErrorIs(t, connect(func(t *engine.Target) { t.User, t.Secret = "", "" }), engine.ErrLogin)
}

// TestWaysToLogIn: with the older mechanism and by certificate; with pins the
// pinned certificate is taken and no other.
func TestWaysToLogIn(t *testing.T) {
	cert, ca := certificate(t)
	client, _ := certificate(t)
	file := filepath.Join(t.TempDir(), "client.pem")
	key, err := x509.MarshalPKCS8PrivateKey(client.PrivateKey)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file,
		slices.Concat(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: client.Certificate[0]}),
			pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})), 0o600))
	open := func(opt docsim.Options, change func(*engine.Target)) error {
		rs, err := docsim.Start(opt)
		require.NoError(t, err)
		defer rs.Close()
		target := engine.Target{Name: "meadow", Address: rs.URI(), User: opt.User, Secret: opt.Password,
			TLS: engine.TLS{On: opt.TLS != nil}}
		change(&target)
		c, err := Driver{}.Open(context.Background(), target)
		if err == nil {
			_, err = c.Namespaces(context.Background())
			_ = c.Close()
		}
		return err
	}
	require.NoError(t, open(docsim.Options{User: "dexamen", Password: "made up", Mechanism: "SCRAM-SHA-1"},
		func(*engine.Target) {}))
	require.ErrorIs(t, open(docsim.Options{User: "dexamen", Password: "made up", Mechanism: "SCRAM-SHA-1"},
		func(t *engine.Target) { t.Secret = "mistyped" }), engine.ErrLogin)
	asks := &tls.Config{Certificates: []tls.Certificate{cert}, ClientAuth: tls.RequestClientCert}
	byCert := docsim.Options{User: "CN=meadow", Mechanism: "MONGODB-X509", TLS: asks}
	require.NoError(t, open(byCert, func(t *engine.Target) {
		t.User, t.ByCertificate, t.TLS.CAFile, t.TLS.ClientCertificate = "", true, ca, file
	}))
	byCert.User = "CN=somebody else"
	require.ErrorIs(t, open(byCert, func(t *engine.Target) {
		t.User, t.ByCertificate, t.TLS.CAFile, t.TLS.ClientCertificate = "", true, ca, file
	}), engine.ErrLogin)

	plain := docsim.Options{TLS: &tls.Config{Certificates: []tls.Certificate{cert}}}
	err = open(plain, func(*engine.Target) {})
	require.Equal(t, []remedy.Remedy{{Kind: remedy.Trust}}, remedy.All(err),
		"an unknown certificate is refused, and it is known what to do")
	require.NoError(t, open(plain, func(t *engine.Target) {
		t.TLS.Pins = []string{engine.Fingerprint(cert.Certificate[0])}
	}))
	require.ErrorContains(t, open(plain,
		func(t *engine.Target) { t.TLS.Pins = []string{engine.Fingerprint(client.Certificate[0])} }), "not pinned")
}

// TestCheckNamesWhatIsRefused: each privilege that lacks is named, with the
// member and what follows.
func TestCheckNamesWhatIsRefused(t *testing.T) {
	c, err := docsim.StartSharded(docsim.ShardedOptions{
		Set: docsim.Options{User: "dexamen", Password: "made up",
			Deny: []string{"replsetgetconfig", "appendoplognote"}}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	cl, err := Driver{}.Open(context.Background(),
		engine.Target{Name: "orchard", Address: c.URI(), User: "dexamen", Secret: "made up"})
	require.NoError(t, err)
	t.Cleanup(func() { _ = cl.Close() })
	var lines []string
	cl.(engine.Checker).Check(context.Background(), func(what string, err error, note string) {
		require.NoError(t, err)
		lines = append(lines, what+": "+note)
	})
	text := strings.Join(lines, "\n")
	require.Contains(t, text, "member orchard-2 "+c.Shard(1).Addresses()[2]+": secondary")
	require.Equal(t, 9, strings.Count(text, "hidden and delayed members are not known"))
	require.Equal(t, 3, strings.Count(text, "up to 10 s"))
	_, err = Driver{}.Open(context.Background(),
		engine.Target{Name: "orchard", Address: c.Shard(0).URI(), User: "dexamen", Secret: "made up"})
	require.ErrorContains(t, err, "belongs to shard orchard-1", "a shard alone is refused")
	require.ErrorContains(t, err, c.Config().Addresses()[0])
	byConfig, err := Driver{}.Open(context.Background(),
		engine.Target{Name: "orchard", Address: "mongodb://" + c.Config().Addresses()[1] + "/", User: "dexamen",
			Secret: "made up"})
	require.NoError(t, err)
	topo, err := byConfig.Topology(context.Background())
	require.NoError(t, err)
	require.Len(t, topo.Shards, 3)
	require.Len(t, topo.Routers, 1)
	_ = byConfig.Close()
}

// TestABusyServer: one that takes its time over every new connection is waited
// for; one at which nobody listens is not.
func TestABusyServer(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c, err := docsim.StartSharded(docsim.ShardedOptions{Members: 1})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer in.Close()
				time.Sleep(downTime + 500*time.Millisecond)
				out, err := net.Dial("tcp", strings.Trim(strings.TrimPrefix(c.URI(), "mongodb://"), "/"))
				if err != nil {
					return
				}
				defer out.Close()
				go func() { _, _ = io.Copy(out, in) }()
				_, _ = io.Copy(in, out)
			}()
		}
	}()
	at := engine.Target{Name: "orchard", Address: "mongodb://" + l.Addr().String() + "/"}
	cl, err := Driver{}.Open(ctx, at)
	require.NoError(t, err)
	defer cl.Close()
	w, err := cl.Writer(ctx)
	require.NoError(t, err)
	stages, err := w.(engine.StagingWriter).Stages(ctx)
	require.NoError(t, err)
	require.Empty(t, stages)

	require.NoError(t, l.Close())
	began := time.Now()
	_, err = Driver{}.Open(ctx, at)
	require.ErrorIs(t, err, engine.ErrUnreachable)
	require.Less(t, time.Since(began), patience/2)
}

// TestServersThatHashOtherwise: where the servers' hashes are not those that
// say whom a document belongs to, nothing is believed.
func TestServersThatHashOtherwise(t *testing.T) {
	ctx := context.Background()
	for _, odd := range []bool{false, true} {
		c, err := docsim.StartSharded(docsim.ShardedOptions{Members: 1, Set: docsim.Options{OddHashes: odd}})
		require.NoError(t, err)
		t.Cleanup(c.Close)
		cl, err := mongo.Connect(options.Client().ApplyURI(c.URI()))
		require.NoError(t, err)
		t.Cleanup(func() { _ = cl.Disconnect(ctx) })
		require.NoError(t, cl.Database("admin").RunCommand(ctx,
			bson.D{{Key: "shardCollection", Value: "telemetry.readings"},
				{Key: "key", Value: bson.D{{Key: "hive", Value: "hashed"}}}}).Err())
		for _, v := range []any{1, 2.5, "north", bson.D{{Key: "row", Value: 3}}, nil, bson.NewObjectID(), true} {
			_, err := cl.Database("telemetry").Collection("readings").InsertOne(ctx, bson.D{{Key: "hive", Value: v}})
			require.NoError(t, err)
		}
		k, err := Driver{}.Open(ctx, engine.Target{Name: "orchard", Address: c.URI()})
		require.NoError(t, err)
		t.Cleanup(func() { _ = k.Close() })
		_, err = k.Namespaces(ctx)
		if odd {
			require.ErrorContains(t, err, "which shard a document belongs to cannot be told")
		} else {
			require.NoError(t, err)
		}
	}
	h, err := hashedValue(bsoncore.Value{Type: bsoncore.TypeInt32, Data: bsoncore.AppendInt32(nil, 1)})
	require.NoError(t, err)
	require.EqualValues(t, 5902408780260971510, h)
}

func TestPartitionsCoverEverythingOnce(t *testing.T) {
	rs, err := docsim.Start(docsim.Options{})
	require.NoError(t, err)
	t.Cleanup(rs.Close)
	ctx := context.Background()
	c, err := Driver{}.Open(ctx, engine.Target{Name: "meadow", Address: rs.URI()})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	wr, err := c.Writer(ctx)
	w := wr.(engine.StagingWriter)
	require.NoError(t, err)
	claims, err := w.Reserve(ctx, []string{"apiary.harvests"})
	require.NoError(t, err)
	defer func() { require.NoError(t, claims.Release(ctx, false)) }()
	stage, err := w.Stage(ctx, record.Namespace{
		Name: "apiary.harvests", Kind: "collection", Definition: createdDefinition("collection", nil)})
	require.NoError(t, err)
	var recs []record.Record
	for i := range 100_000 {
		b, _ := bson.Marshal(bson.D{{Key: "_id", Value: i}})
		recs = append(recs, record.Record{Value: b})
	}
	require.NoError(t, w.Write(ctx, stage.Name, recs))
	require.ErrorContains(t, w.Discard(ctx, "apiary.harvests"), "no stage")
	require.NoError(t, w.Publish(ctx, stage.Name, "apiary.harvests", false))
	require.Error(t, w.Publish(ctx, stage.Name, "apiary.harvests", false))
	list, err := c.Namespaces(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.EqualValues(t, 100_000, list[0].Records)
	parts, err := c.Partitions(ctx, list[0], 4)
	require.NoError(t, err)
	require.Greater(t, len(parts), 2)
	seen := map[string]int{}
	for _, p := range parts {
		require.NoError(t, c.Scan(ctx, list[0], p, func(r record.Record) error { seen[string(r.Key)]++; return nil }))
	}
	require.Len(t, seen, 100_000)
	for _, n := range seen {
		require.Equal(t, 1, n)
	}
	other := list[0]
	other.Ident = []byte("0123456789abcdef")
	err = c.Scan(ctx, other, engine.Partition{}, func(record.Record) error { return nil })
	require.ErrorIs(t, err, engine.ErrMoved)
	enough := errors.New("enough")
	require.ErrorIs(t, c.Scan(ctx, list[0], engine.Partition{}, func(record.Record) error { return enough }), enough)
}

// TestShardsHaveUsersOfTheirOwn: one that was made through a router does not exist on the shards, and that is said.
func TestShardsHaveUsersOfTheirOwn(t *testing.T) {
	t.Parallel()
	c, err := docsim.StartSharded(docsim.ShardedOptions{Members: 1, LocalUser: "local",
		Set: docsim.Options{User: "dexamen", Password: "made up"}})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	cl, err := Driver{}.Open(context.Background(), engine.Target{Name: "orchard", Address: c.URI(), User: "dexamen",
		Secret: "made up"})
	if err == nil {
		defer cl.Close()
		_, err = cl.Topology(context.Background())
	}
	require.ErrorIs(t, err, engine.ErrLogin)
	require.ErrorContains(t, err, "shard orchard-")
	require.Equal(t, []remedy.Remedy{{Kind: remedy.ShardLogins, Of: "orchard"}}, remedy.All(err))
}
