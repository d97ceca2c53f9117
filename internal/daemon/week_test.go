package daemon

import (
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"dexamen/internal/config"
	"dexamen/internal/core/store"
)

// toldNow returns which alerts were told and are not over, by store and cluster.
func (y *twoStores) toldNow() map[string]bool {
	y.mu.Lock()
	defer y.mu.Unlock()
	going := map[string]bool{}
	for _, a := range y.told {
		k := a.Store + "/" + a.Cluster + "/" + a.Key
		if a.Over {
			delete(going, k)
		} else {
			going[k] = true
		}
	}
	return going
}

// newest is the newest moment of a cluster, read from its store past whatever ails that.
func (y *twoStores) newest(t *testing.T, storeName, cluster string) time.Time {
	place := y.places[storeName]
	if p, ok := place.(*troubled); ok {
		place = p.Backend
	}
	s, err := store.Open(t.Context(), place, store.Options{Workers: 1})
	require.NoError(t, err)
	defer s.Close()
	points, _, err := s.Points(t.Context(), cluster)
	require.NoError(t, err)
	if len(points) == 0 {
		return time.Time{}
	}
	return points[len(points)-1].Time
}

// TestSevenDays has stores, clusters and channels fail at random for two days, a week
// with DEXAMEN_LONG, or DEXAMEN_WEEK_DAYS, on
// a clock that is not real: each minute in which a promise is broken has an alert that is told, and
// no minute has one in which nothing is wrong.
func TestSevenDays(t *testing.T) {
	days := 2
	if os.Getenv("DEXAMEN_LONG") != "" {
		days = 7
	}
	if s := os.Getenv("DEXAMEN_WEEK_DAYS"); s != "" {
		days, _ = strconv.Atoi(s)
	}
	begun := time.Now()
	synctest.Test(t, func(t *testing.T) {
		y, stop := newTwoStores(t)
		defer stop()
		r := rand.New(rand.NewPCG(18, 18))
		home := map[string]string{"meadow": "larder", "orchard": "pantry"}
		const promised = 11 * time.Minute
		time.Sleep(30 * time.Minute)
		end := time.Now().Add(time.Duration(days) * 24 * time.Hour)
		minutes, broken, alarmed, harmed := 0, 0, 0, map[string]int{}
		wrong := "" // what is broken now
		var healed time.Time
		late := map[string]int{} // minutes in a row in which a promise was broken without an alert
		look := func() {
			minutes++
			going := y.toldNow()
			for cluster, st := range home {
				behind := time.Since(y.newest(t, st, cluster)) > promised
				told := false
				for k := range going {
					told = told || k == st+"//store" || len(k) > len(st+"/"+cluster) &&
						k[:len(st+"/"+cluster)] == st+"/"+cluster
				}
				if behind {
					broken++
				}
				if behind && !told {
					late[cluster]++
				} else {
					late[cluster] = 0
				}
				require.LessOrEqual(t, late[cluster], 1, "%s: %s is behind without a word, while %q; told: %v",
					time.Now(),
					cluster, wrong, going)
				if told {
					alarmed++
					require.True(t, wrong != "" || behind || time.Since(healed) < 3*time.Minute,
						"%s: %v, and nothing is wrong", time.Now(), going)
				}
			}
		}
		wait := func(d time.Duration) {
			for left := d; left > 0 && time.Now().Before(end); left -= time.Minute {
				time.Sleep(time.Minute)
				look()
			}
		}
		for time.Now().Before(end) {
			wait(time.Duration(r.ExpFloat64() * float64(3*time.Hour)))
			length := time.Minute + time.Duration(r.ExpFloat64()*float64(time.Hour))
			field := func(name string, down bool) { f, _ := fakeClusters.Load(name); f.(*fakeCluster).setDown(down) }
			heal := func() {}
			switch r.IntN(6) {
			case 0:
				wrong, heal = "the store hangs", y.larder.hang()
			case 1:
				wrong, heal = "the store is full", func() { y.larder.fill(false) }
				y.larder.fill(true)
			case 2, 3:
				name := []string{"meadow", "orchard"}[r.IntN(2)]
				wrong, heal = name+" is down", func() { field(name, false) }
				field(name, true)
			case 4: // a daemon that is told of a new configuration, which asks for the same
				wrong = "the configuration is read anew"
				y.d.Load = func() (*config.Config, error) { return y.d.Config, nil }
				y.d.load()
				length = time.Minute
			case 5:
				wrong, length = "the configuration is refused", 5*time.Minute
				y.d.Load = func() (*config.Config, error) { return nil, fmt.Errorf("line 3 is broken") }
				if r.IntN(2) == 0 { // or it was cut short
					y.d.Load = func() (*config.Config, error) { return &config.Config{Stores: y.d.Config.Stores}, nil }
				}
				y.d.load()
				heal = func() {
					cfg := y.d.Config
					y.d.Load = func() (*config.Config, error) { return cfg, nil }
					y.d.load()
				}
			}
			harmed[wrong]++
			wait(length)
			heal()
			wrong, healed = "", time.Now()
		}
		require.Greater(t, broken, 0)
		t.Logf("%d minutes, in %d of which a promise was broken and in %d an alert went on; %d notices; %v",
			minutes, broken,
			alarmed, len(y.told), harmed)
	})
	t.Logf("%d days in %s", days, time.Since(begun).Round(time.Millisecond))
}
