package integration_test

import (
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
)

// cost is what some work took: seconds of wall time, and of all processors.
type cost struct {
	wall, cpu float64
	peak      int // MiB, 0 where it was not measured
}

// floorRow is one kind of work beside the bare tools that do the least of it. Each of
// the two functions does the work once, and takes itself away what the next would meet.
type floorRow struct {
	name, floor string
	// goals are how many times the floor's CPU and wall time it may take; 0 is none.
	cpu, wall float64
	ours      func() cost
	bare      func() cost
	// size tells what was worked on, when it has been done.
	size func() string
}

// TestFloors measures each kind of work beside its floor, in turn: once and at a small
// size, so that it cannot rot; with DEXAMEN_FLOORS five times at the sizes that
// docs/performance.md tells, whose table it writes anew (make floors).
func TestFloors(t *testing.T) {
	rounds := 1
	if os.Getenv("DEXAMEN_FLOORS") != "" {
		rounds = 5
	}
	rows := slices.Concat(documentFloors(t), redisFloors(t), etcdFloors(t), treeFloors(t), storeFloors(t))
	var table strings.Builder
	table.WriteString("| work | the floor | CPU s | its floor | times | goal | wall s | its floor | times | goal | " +
		"MiB |\n" +
		"|---|---|---|---|---|---|---|---|---|---|---|\n")
	only := os.Getenv("DEXAMEN_FLOOR")
	for _, row := range rows {
		if only != "" && !strings.Contains(row.name, only) {
			continue
		}
		var ours, bare []cost
		for range rounds {
			bare = append(bare, row.bare())
			ours = append(ours, row.ours())
		}
		o, b := medianCost(ours), medianCost(bare)
		require.Positive(t, o.cpu, "%s: nothing was measured", row.name)
		require.Positive(t, b.cpu, "%s: nothing was measured of the floor", row.name)
		goal := func(x float64) string {
			if x == 0 {
				return ""
			}
			return fmt.Sprintf("≤ %.4g", x)
		}
		peak := ""
		if o.peak > 0 {
			peak = fmt.Sprint(o.peak)
		}
		line := fmt.Sprintf("| %s: %s | %s | %.2f | %.2f | **%.2f** | %s | %.2f | %.2f | **%.2f** | %s | %s |\n",
			row.name, row.size(), row.floor, o.cpu, b.cpu, o.cpu/b.cpu, goal(row.cpu),
			o.wall, b.wall, o.wall/b.wall, goal(row.wall), peak)
		t.Log(line)
		table.WriteString(line)
	}
	if rounds == 1 || only != "" {
		return
	}
	const file = "../../docs/performance.md"
	const begin, end = "<!-- floors -->\n", "<!-- end of floors -->"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, ok := strings.Cut(string(text), begin)
	require.True(t, ok, "%s has no %q", file, begin)
	_, after, ok := strings.Cut(rest, end)
	require.True(t, ok, "%s has no %q", file, end)
	head := fmt.Sprintf("Measured on %s with %s, %s: medians of %d runs in turn.\n\n",
		time.Now().Format("2006-01-02"), machine(), runtime.Version(), rounds)
	require.NoError(t, os.WriteFile(file, []byte(before+begin+head+table.String()+end+after), 0o644))
}

// machine names what the figures were measured on.
func machine() string {
	model := "an unknown processor"
	if b, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		for _, line := range strings.Split(string(b), "\n") {
			if name, value, ok := strings.Cut(line, ":"); ok && strings.TrimSpace(name) == "model name" {
				model = strings.TrimSpace(value)
				break
			}
		}
	}
	return fmt.Sprintf("%d processors (%s)", runtime.NumCPU(), model)
}

func medianCost(all []cost) cost {
	of := func(pick func(cost) float64) float64 {
		var list []float64
		for _, c := range all {
			list = append(list, pick(c))
		}
		slices.Sort(list)
		return list[len(list)/2]
	}
	return cost{of(func(c cost) float64 { return c.wall }), of(func(c cost) float64 { return c.cpu }),
		int(of(func(c cost) float64 { return float64(c.peak) }))}
}

// metered tells what work in this process took.
func metered(do func()) cost {
	runtime.GC()
	before, begun := ownCPU(), time.Now()
	do()
	return cost{wall: time.Since(begun).Seconds(), cpu: ownCPU() - before}
}

func ownCPU() float64 {
	var r syscall.Rusage
	_ = syscall.Getrusage(syscall.RUSAGE_SELF, &r)
	return time.Duration(r.Utime.Nano() + r.Stime.Nano()).Seconds()
}

func (u usage) cost() cost { return cost{u.wall.Seconds(), u.cpu.Seconds(), u.peak} }

// bareStore is what keeps the same bytes at the least: it compresses and hashes blocks
// of them, on all processors, and drops them.
type bareStore struct {
	blocks chan []byte
	free   chan []byte
	block  []byte
	ended  chan bool
	n      int
}

const bareBlock = 128 << 10

func newBareStore() *bareStore {
	s := &bareStore{blocks: make(chan []byte, 8), free: make(chan []byte, 32), ended: make(chan bool),
		n: runtime.GOMAXPROCS(0)}
	for range s.n {
		go func() {
			enc, _ := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
				zstd.WithWindowSize(1<<20))
			var dst []byte
			for b := range s.blocks {
				dst = enc.EncodeAll(b, dst[:0])
				_ = blake3.Sum256(b)
				select {
				case s.free <- b[:0]:
				default:
				}
			}
			s.ended <- true
		}()
	}
	return s
}

func (s *bareStore) add(b []byte) {
	if s.block = append(s.block, b...); len(s.block) >= bareBlock {
		s.blocks <- s.block
		select {
		case s.block = <-s.free:
		default:
			s.block = make([]byte, 0, bareBlock+bareBlock/4)
		}
	}
}

func (s *bareStore) end() {
	s.blocks <- s.block
	close(s.blocks)
	for range s.n {
		<-s.ended
	}
}

// floorSize is large with DEXAMEN_FLOORS, small in a test of every day.
func floorSize(large, small int) int {
	if os.Getenv("DEXAMEN_FLOORS") != "" {
		return large
	}
	return small
}
