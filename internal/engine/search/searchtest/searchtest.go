// Package searchtest runs real search servers for tests: testbed/searchserver fetches
// and starts them.
package searchtest

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/servertest"
)

// Options change a cluster from the usual.
type Options struct {
	Nodes int // default 1
	// Version is one that testbed/searchserver can fetch; the usual one where empty.
	Version string
	// Java is the folder of another JDK.
	Java string
	// Heap is that of each node, as 512m.
	Heap string
	// Settings are more settings of each node, as key=value.
	Settings []string
}

// Cluster is a running cluster.
type Cluster struct {
	Nodes []*servertest.Process
	URL   string // of the node that requests of tests go to
}

// testbed returns the folder with the recipe.
func testbed() string {
	_, here, _, _ := runtime.Caller(0)
	return filepath.Join(filepath.Dir(here), "../../../../testbed/searchserver")
}

// Start runs a real cluster.
func Start(t testing.TB, o Options) *Cluster {
	t.Helper()
	n := max(o.Nodes, 1)
	env := os.Environ()
	if o.Version != "" {
		env = append(env, "OPENSEARCH_VERSION="+o.Version)
	}
	java := "java"
	if o.Java != "" {
		env, java = append(env, "JAVA_HOME="+o.Java), filepath.Join(o.Java, "bin/java")
	}
	prepare := exec.Command(filepath.Join(testbed(), "prepare.sh"))
	prepare.Env = env
	classes, err := prepare.Output()
	require.NoError(t, err, "the search server is not there; run: make servers")
	heap, collector := o.Heap, "G1"
	if heap == "" {
		// One that takes little; what refuses requests counts garbage, and has only the
		// other one collect it.
		heap, collector = "320m", "Serial"
	}
	ports := servertest.FreePorts(t, 2*n)
	c := &Cluster{URL: "http://" + ports[0]}
	seeds := strings.Join(ports[n:], ",")
	first := "cluster.initial_cluster_manager_nodes"
	if strings.HasPrefix(o.Version, "1.") {
		first = "cluster.initial_master_nodes"
	}
	for i := range n {
		_, http, _ := net.SplitHostPort(ports[i])
		_, transport, _ := net.SplitHostPort(ports[n+i])
		args := []string{java, "-Xms" + heap, "-Xmx" + heap, "-XX:+Use" + collector + "GC", "-XX:TieredStopAtLevel=1",
			"-Xshare:auto"}
		lib := strings.TrimSpace(string(classes))
		archives, _ := filepath.Glob(filepath.Join(filepath.Dir(strings.Split(lib, ":")[0]), "*.jsa"))
		if o.Java == "" && len(archives) == 1 {
			args = append(args, "-XX:SharedArchiveFile="+archives[0])
		}
		args = append(args, "-Dlog4j2.disable.jmx=true", "-Dlog4j.shutdownHookEnabled=false",
			"-Djava.awt.headless=true",
			"-Dio.netty.noUnsafe=true", "-Dio.netty.allocator.numDirectArenas=0", "-cp", lib, "SearchServer",
			servertest.MemoryDir(t), "cluster.name=clover", "node.name=clover-"+strconv.Itoa(i+1),
			"network.host=127.0.0.1",
			"http.port="+http, "transport.port="+transport, "cluster.routing.allocation.disk.threshold_enabled=false",
			"node.store.allow_mmap=false")
		if n == 1 {
			args = append(args, "discovery.type=single-node")
		} else {
			args = append(args, "discovery.seed_hosts="+seeds, first+"="+seeds)
		}
		c.Nodes = append(c.Nodes, servertest.StartProcess(t, ports[i], append(args, o.Settings...)...))
	}
	c.Ready(t)
	return c
}

// NewerJava returns the folder of a JDK that newer servers need (21); empty where there
// is none.
func NewerJava() string {
	all, _ := filepath.Glob("/usr/lib/jvm/*/release")
	for _, f := range all {
		b, _ := os.ReadFile(f)
		_, v, _ := strings.Cut(string(b), `JAVA_VERSION="`)
		v, _, _ = strings.Cut(v, ".")
		if n, err := strconv.Atoi(strings.TrimRight(v, `"`)); err == nil && n >= 21 {
			return filepath.Dir(f)
		}
	}
	return ""
}

// Ready waits until all nodes that run have joined, and every shard is there.
func (c *Cluster) Ready(t testing.TB) {
	t.Helper()
	require.Eventually(t, func() bool {
		var v struct {
			Nodes    int  `json:"number_of_nodes"`
			TimedOut bool `json:"timed_out"`
		}
		status, b, err := c.Try(http.MethodGet, fmt.Sprintf(
			"/_cluster/health?wait_for_status=yellow&wait_for_nodes=%d&timeout=1s", len(c.Nodes)), "")
		return err == nil && status == 200 && json.Unmarshal(b, &v) == nil && !v.TimedOut
	}, 6*time.Minute, 200*time.Millisecond, "the cluster comes up")
}

// Try sends a request and returns the answer.
func (c *Cluster) Try(method, path, body string) (int, []byte, error) {
	req, err := http.NewRequest(method, c.URL+path, strings.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	cl := http.Client{Timeout: 2 * time.Minute}
	res, err := cl.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	return res.StatusCode, b, err
}

// Do sends a request that must succeed, and decodes the answer where it is an object.
func (c *Cluster) Do(t testing.TB, method, path, body string) map[string]any {
	t.Helper()
	status, b, err := c.Try(method, path, body)
	require.NoError(t, err)
	require.Less(t, status, 300, "%s %s: %s", method, path, b)
	var v map[string]any
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	_ = d.Decode(&v)
	if v["errors"] == true {
		t.Fatalf("%s %s: %s", method, path, b)
	}
	return v
}

// Address is what the cluster is registered with.
func (c *Cluster) Address() string {
	return "search+http://" + strings.Join(servertest.Addresses(c.Nodes), ",")
}

// Clean removes all indices, data streams and templates.
func (c *Cluster) Clean(t testing.TB) {
	t.Helper()
	_, _, _ = c.Try(http.MethodPut, "/_all/_settings?expand_wildcards=all", `{"index.blocks.write":null}`)
	_, _, _ = c.Try(http.MethodDelete, "/_data_stream/*", "")
	c.Do(t, http.MethodDelete, "/*?expand_wildcards=all", "")
	for _, kind := range []string{"_index_template", "_template", "_component_template"} {
		_, _, _ = c.Try(http.MethodDelete, "/"+kind+"/*", "")
	}
}
