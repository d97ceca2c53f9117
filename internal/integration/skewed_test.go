package integration_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// skewedBinary builds the program with a clock that is off by as many seconds as a file says, which
// it reads ten times a second: no process may set the machine's clock for a test. What measures
// lengths of time goes on as it does where a clock is set.
func skewedBinary(t *testing.T, clock string) string {
	t.Helper()
	root, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	runtime := filepath.Join(strings.TrimSpace(string(root)), "src", "runtime")
	src, err := os.ReadFile(filepath.Join(runtime, "time.go"))
	require.NoError(t, err)
	was := "\treturn time_now()\n}"
	require.Equal(t, 1, strings.Count(string(src), was), "Go's own clock is read elsewhere by now")
	dir := t.TempDir()
	main, err := filepath.Abs("../../cmd/dexamen")
	require.NoError(t, err)
	overlay := map[string]string{}
	put := func(at, text string) {
		file := filepath.Join(dir, strconv.Itoa(len(overlay))+filepath.Ext(at))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		overlay[at] = file
	}
	put(filepath.Join(runtime, "time.go"), strings.Replace(string(src), was,
		"\tsec, nsec, mono = time_now()\n\treturn sec + skewed.Load(), nsec, mono\n}", 1))
	put(filepath.Join(runtime, "skewed.go"), `package runtime

import (
	"internal/runtime/atomic"
	_ "unsafe"
)

var skewed atomic.Int64

//go:linkname setSkewed
func setSkewed(seconds int64) { skewed.Store(seconds) }
`)
	put(filepath.Join(main, "skewed.s"), "\n")
	put(filepath.Join(main, "skewed.go"), `package main

import (
	"os"
	"strconv"
	"strings"
	"time"
	_ "unsafe"
)

//go:linkname setSkewed runtime.setSkewed
func setSkewed(seconds int64)

func init() {
	look := func() {
		text, _ := os.ReadFile(`+strconv.Quote(clock)+`)
		if n, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil {
			setSkewed(n)
		}
	}
	look()
	go func() {
		for {
			time.Sleep(100 * time.Millisecond)
			look()
		}
	}()
}
`)
	list, err := json.Marshal(map[string]any{"Replace": overlay})
	require.NoError(t, err)
	file := filepath.Join(dir, "overlay.json")
	require.NoError(t, os.WriteFile(file, list, 0o600))
	bin := filepath.Join(dir, "dexamen")
	cmd := exec.Command("go", "build", "-overlay", file, "-o", bin, "./cmd/dexamen")
	cmd.Dir = "../.."
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return bin
}

// setClock sets the clock of what skewedBinary built.
func setClock(t *testing.T, clock string, off time.Duration) {
	t.Helper()
	require.NoError(t, os.WriteFile(clock+".new", []byte(strconv.FormatInt(int64(off/time.Second), 10)), 0o600))
	require.NoError(t, os.Rename(clock+".new", clock))
}
